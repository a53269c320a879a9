// What may stand at the end of a command line: for the completion of shells, which ask the tool itself
// (`juniper complete`), so that they know what the description of options and the model at hand say.
#pragma once

#include <string>
#include <vector>

#include "command_line.h"

namespace juniper::tool {

struct Completion {
  std::string word;
  std::string about;  // a few words; may be empty
};

struct Completions {
  std::vector<Completion> words;  // that begin with what is written
  bool files = false;             // and paths of files
  bool folders = false;           // or of folders alone
};

// What the last of the words behind `juniper` can become; it may be empty. Reads the model of the line where its names
// may stand; of one that can't be read there are none.
Completions complete(const CommandLine& line, const std::vector<std::string>& words);

// Lines for the shells' scripts: a word, a tab and what it is about; `:files` or `:folders` where paths may stand.
std::string to_text(const Completions& completions);

}  // namespace juniper::tool
