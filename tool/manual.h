// Man pages, from the description of the command line.
#pragma once

#include <string>

#include "command_line.h"

namespace juniper::tool {

// juniper(1): what there is, and what all commands share.
std::string man_page(const CommandLine& line);
// juniper-COMMAND(1).
std::string man_page(const CommandLine& line, const Command& command);

}  // namespace juniper::tool
