// What stands in a folder.
#pragma once

#include <filesystem>
#include <vector>

namespace juniper::base {

// The entries of a folder, sorted by name; none if it can't be read. (The standard library's way to ask ends the
// program when memory runs out.)
std::vector<std::filesystem::path> entries_of(const std::filesystem::path& folder);

}  // namespace juniper::base
