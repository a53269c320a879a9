// A folder whose files change together: a reader sees all of the old ones or all of the new ones, whatever fails or is
// killed.
//
// The new folder is written beside the old one, synced, and the two exchange their names in one step (renameat2(2)). The
// folder may hold files of somebody else: they are in the new one, too, and whatever was saved in the old one meanwhile
// comes after. Of two who replace a folder at once, one waits for the other's lock (flock(2)).
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>

#include "base/descriptor.h"
#include "juniper/diagnostics.h"

namespace juniper::base {

struct FolderFiles {
  // The bytes of each, by its path within the folder. `first` is written before the others: what it names, and it
  // itself, may be removed again when the writer was killed.
  std::map<std::string, std::string> texts;
  std::string first;
};

// The paths within a folder that its `first` file names; none where there is no such file, and nothing where it can't be
// read. What it does not name is somebody else's.
using OwnFiles = std::function<std::optional<std::set<std::string>>(const std::filesystem::path& folder)>;

// True if the folder is still the one that the change was made for; asked once it is locked.
using IsAsRead = std::function<bool(const std::filesystem::path& folder)>;

// Replaces a folder, or makes a new one with those above it. Errors: `code` with what failed, and the old one as it was;
// JR-910 (it is not as it was read any more).
Result<void> replace_folder(const std::filesystem::path& path, const FolderFiles& files, const OwnFiles& own,
                            const IsAsRead& is_as_read, const std::string& code);

// Keeps those who replace a folder waiting, as long as it lives, so that all files of one folder can be read by its name.
// Below 0 where there is no folder, or somebody else does not let it go.
Descriptor hold_folder(const std::filesystem::path& path);

}  // namespace juniper::base
