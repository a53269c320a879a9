// Whole files as texts.
#pragma once

#include <string>

#include "juniper/diagnostics.h"

namespace juniper::base {

// Writes a text into a file, in the place of what it held. Errors: JR-009 (cannot write).
Result<void> write_text(const std::string& path, const std::string& text);

}  // namespace juniper::base
