// New files beside those whose place they are to take. Nobody can guess their names, none is written through a link that
// stands there, and each is locked (flock(2)) by the process that writes it: so several may write at once, also from
// several containers, and what a killed one left can be told and removed.
#pragma once

#include <filesystem>
#include <string>

namespace juniper::base {

// Where the symbolic links of a path lead, whether or not something is there.
std::filesystem::path where_links_lead(std::filesystem::path path);

// Creates a file beside `target`, opened for reading and writing, of the mode 0644 less the umask. Gives its descriptor,
// and its path; or -1 with errno. The caller closes and removes it. Throws std::bad_alloc before anything is created.
int create_beside(const std::filesystem::path& target, std::string& path);

// Removes what killed processes left beside `target`.
void remove_leftovers(const std::filesystem::path& target);

}  // namespace juniper::base
