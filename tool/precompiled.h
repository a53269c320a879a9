// What every command includes, compiled once for all of them (see src/precompiled.h).
#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <tl/expected.hpp>
#include <utility>
#include <variant>
#include <vector>

#include "juniper/report.h"
