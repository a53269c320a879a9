// New files and folders beside those whose place they are to take. Nobody can guess their names, none is written through a
// link that stands there, and each is locked (flock(2)) by the process that writes it: so several may write at once, also
// from several containers, and what a killed one left can be told and removed.
#pragma once

#include <filesystem>
#include <functional>
#include <string>

#include "base/unfinished.h"

namespace juniper::base {

// Where the symbolic links of a path lead, whether or not something is there.
std::filesystem::path where_links_lead(std::filesystem::path path);

// Creates a file beside `target`, opened for reading and writing, of the mode 0644 less the umask. Gives its descriptor,
// and its path; or -1 with errno. The caller closes and removes it; until then, so does a signal that ends the process.
// Throws std::bad_alloc before anything is created.
int create_beside(const std::filesystem::path& target, std::string& path, Unfinished& unfinished);

// The same for a folder, which signals have to wait for: locked, of the mode 0755 less the umask.
int create_folder_beside(const std::filesystem::path& target, std::string& path);

// Calls take(path) for the files and folders that killed processes left beside `target`, each locked meanwhile.
void each_leftover(const std::filesystem::path& target, const std::function<void(const std::filesystem::path&)>& take);

// Removes such files.
void remove_leftovers(const std::filesystem::path& target);

}  // namespace juniper::base
