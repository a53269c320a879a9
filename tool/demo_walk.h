// The walk through the demo.
#pragma once

#include <string>

#include "console.h"
#include "juniper/demo.h"

namespace juniper::tool {

// Writes the demo into `directory` and goes through the steps of a day with it. Gives the exit status.
int walk_demo(const std::string& directory, const DemoOptions& demo, const Options& options, Console& console);

}  // namespace juniper::tool
