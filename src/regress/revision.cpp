#include "regress/revision.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/diagnostics.h"
#include "base/git.h"
#include "language/parser.h"

namespace juniper::regress {

namespace {

namespace fs = std::filesystem;

tl::unexpected<Diagnostics> failed(const std::string& message) {
  return tl::unexpected(base::error("JR-908", message, "name a revision of the repository that holds the model text"));
}

// A file of the model at a revision.
Result<std::string> text_at(const std::string& file, const std::string& revision) {
  auto text = base::text_at(file, revision);
  if (!text) return failed(fmt::format("git does not give {} at '{}'", file, revision));
  return std::move(*text);
}

}  // namespace

Result<Model> model_at_revision(const std::string& path, const std::string& revision, const ReadOptions& options) {
  if (revision.empty() || revision.front() == '-') return failed(fmt::format("'{}' is no revision", revision));
  std::vector<ModelText> texts;
  std::vector<std::string> names{path};
  for (std::size_t i = 0; i < names.size(); ++i) {
    auto text = text_at(names[i], revision);
    if (!text) return tl::unexpected(text.error());
    language::Sources sources;
    Diagnostics problems;  // told by Model::parse
    const std::uint32_t file = sources.add({names[i], *text});
    for (const auto& include : language::parse_model(sources, file, problems).includes) {
      const std::string name = (fs::path(names[i]).parent_path() / include.file).lexically_normal().string();
      if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    }
    texts.push_back({names[i], std::move(*text)});
  }
  return Model::parse(texts, options);
}

}  // namespace juniper::regress
