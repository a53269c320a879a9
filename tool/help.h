// Help texts for a terminal, from the description of the command line.
#pragma once

#include <string>

#include "command_line.h"

namespace juniper::tool {

// "juniper ask MODEL QUERY [OPTIONS]"
std::string usage(const Command& command);
// An option with what stands for its value: "--where CONDITION", "QUERY…".
std::string usage(const Option& option);
// What an option does, with the words that it takes: "In whose words: sqlite or postgresql".
std::string explained(const Option& option);

// What `juniper help` prints: the commands, what they are for, and the options of all.
std::string help(const CommandLine& line, std::size_t window);
// What `juniper help COMMAND` prints.
std::string help(const CommandLine& line, const Command& command, std::size_t window);

}  // namespace juniper::tool
