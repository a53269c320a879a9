// Texts of people, written so that none is lost: all files of a change take the place of the old ones, or none does.
//
// Each new file is written beside the old one, under a name that nobody can guess, with its mode and owner, and synced.
// While the old ones are locked (flock(2), so that two of these functions never work on one file), each is compared with
// what was read; then each pair exchanges its names in one step (renameat2(2)), so that what an editor may have saved
// meanwhile is still there to be compared, and to be put back. Last, the folders are synced. A symbolic link stays: what
// it leads to is replaced.
#pragma once

#include <span>
#include <string>

#include "juniper/diagnostics.h"

namespace juniper::base {

struct Replacement {
  std::string path;
  std::string before;  // what the file must still hold
  std::string after;
};

// Replaces files that are there. Where anything fails, all are as they were. Errors: JR-805 (one holds something else),
// JR-806 (one can't be read, locked or written). Two processes may call it for the same files; so may two threads.
Result<void> replace_files(std::span<const Replacement> files);
inline Result<void> replace_file(const Replacement& file) {
  return replace_files(std::span(&file, 1));
}

}  // namespace juniper::base
