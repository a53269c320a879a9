#include "juniper/format.h"

#include <fmt/format.h>

#include "base/diagnostics.h"
#include "base/files.h"
#include "base/replace_files.h"
#include "language/layout.h"
#include "refactor/text_edits.h"

namespace juniper {

Result<std::string> canonical_layout(const std::string& text, const std::string& name) {
  language::Sources sources;
  return language::canonical_layout(sources, sources.add({name, text}));
}

Result<Formatted> format_file(const std::string& path, Formatting formatting) {
  const auto before = base::read_plain_file(path);
  if (!before)
    return tl::unexpected(
        base::error("JR-806", fmt::format("cannot read {}: {}", path, before.error()), "check the path"));
  const auto after = canonical_layout(*before, path);
  if (!after) return tl::unexpected(after.error());
  Formatted made{path, *after != *before, refactoring::unified_diff(*before, *after, path)};
  if (made.changed && formatting == Formatting::write) {
    if (auto done = base::replace_file({path, *before, *after}); !done) return tl::unexpected(done.error());
  }
  return made;
}

}  // namespace juniper
