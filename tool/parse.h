// Reading a command line by its description.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "command_line.h"

namespace juniper::tool {

struct Parsed {
  const Command* command = nullptr;    // nothing where none is named, or there is no such command
  std::optional<std::string> problem;  // what is wrong with the line, and what to do about it
};

// Reads the words behind `juniper` and hands each option its values.
Parsed parse(const CommandLine& line, const std::vector<std::string>& words);

// The command that the words name, and where it stands among them: the first word that is neither an option of every
// command nor the value of one.
std::optional<std::size_t> place_of_command(const CommandLine& line, const std::vector<std::string>& words);

}  // namespace juniper::tool
