// A model text on the disk.
#pragma once

#include <string>

#include "juniper/diagnostics.h"

namespace juniper::refactoring {

// The text of a file. Errors: JR-806 (it can't be read).
Result<std::string> read_text(const std::string& path);

// Replaces the text of a file that still holds `before`: written beside its place and renamed. Errors: JR-805 (it holds
// something else), JR-806 (it can't be read or written).
Result<void> replace_text(const std::string& path, const std::string& before, const std::string& after);

}  // namespace juniper::refactoring
