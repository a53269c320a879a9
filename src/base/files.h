// What stands in a folder and in plain files.
#pragma once

#include <filesystem>
#include <string>
#include <tl/expected.hpp>
#include <vector>

namespace juniper::base {

// The entries of a folder, sorted by name; none if it can't be read. (The standard library's way to ask ends the
// program when memory runs out.)
std::vector<std::filesystem::path> entries_of(const std::filesystem::path& folder);

// Opens a plain file for reading: its descriptor, or why it can't be read. A folder, a pipe and a device are none: they
// may never end.
tl::expected<int, std::string> open_plain_file(const std::filesystem::path& path);

// The bytes of a plain file, or why it can't be read.
tl::expected<std::string, std::string> read_plain_file(const std::filesystem::path& path);

}  // namespace juniper::base
