// What a git repository holds of a file, at revisions gone by: asked of the program git, which knows its repositories.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace juniper::base {

// A revision in which a file was changed.
struct Revision {
  std::string name;  // its hash, in short
  std::string day;   // on which it was committed: "2025-03-01"
};

// The last revisions in which a file or what is in a folder was changed, the oldest first. Nothing where git is not
// there, or no repository holds it. Thread-safe, as is text_at.
std::optional<std::vector<Revision>> revisions_of(const std::string& path, std::size_t most);

// A file as it was at a revision, which is told in git's own ways. Nothing where git is not there, or knows no such
// revision, or holds no such file.
std::optional<std::string> text_at(const std::string& path, const std::string& revision);

}  // namespace juniper::base
