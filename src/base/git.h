// What a git repository holds of a file, at revisions gone by: asked of the program git, which knows its repositories.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

namespace juniper::base {

// A file in a revision that changed it.
struct RevisionText {
  std::string revision;  // its hash, in short
  std::string day;       // on which it was committed: "2025-03-01"
  std::string text;
};

// The last revisions that changed a file, the oldest first, without those that took it away. Nothing where git is not
// there, or no repository holds it. Thread-safe, as is text_at.
std::optional<std::vector<RevisionText>> texts_of(const std::string& path, std::size_t most);

// A file as it was at a revision, which is told in git's own ways. Nothing where git is not there, or knows no such
// revision, or holds no such file.
std::optional<std::string> text_at(const std::string& path, const std::string& revision);

}  // namespace juniper::base
