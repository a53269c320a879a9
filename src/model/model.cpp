#include "juniper/model.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "base/diagnostics.h"
#include "language/check.h"
#include "language/parser.h"

namespace juniper {

Result<Model> Model::read(const std::string& path) {
  std::error_code ignored;
  std::ifstream file(path, std::ios::binary);
  if (!file || std::filesystem::is_directory(path, ignored)) {
    return tl::unexpected(
        base::error("JR-001", "cannot open the model text " + path + ": " + std::strerror(file ? EISDIR : errno),
                    "name a .ridge text, or the .jrs store made from one"));
  }
  std::string text{std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
  return parse(path, std::move(text));
}

Result<Model> Model::parse(std::string name, std::string text) {
  language::Sources sources;
  const std::uint32_t file = sources.add({std::move(name), std::move(text)});
  Diagnostics diagnostics;
  const language::syntax::Model tree = language::parse_model(sources, file, diagnostics);
  auto checked = std::make_shared<language::CheckedModel>(language::check_model(tree, sources, diagnostics));
  // In the order of the text, whichever stage found them.
  std::stable_sort(diagnostics.begin(), diagnostics.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::pair(a.place.line, a.place.column) < std::pair(b.place.line, b.place.column);
  });
  if (has_errors(diagnostics)) return tl::unexpected(std::move(diagnostics));
  return Model(std::move(checked));
}

const std::string& Model::path() const {
  return checked_->sources[0].name;
}
const std::string& Model::text() const {
  return checked_->sources[0].text;
}
const std::string& Model::title() const {
  return checked_->name;
}

namespace {
template <class Item>
std::vector<std::string> names_of(const std::vector<Item>& items) {
  std::vector<std::string> names;
  for (const Item& item : items) names.push_back(item.name);
  return names;
}
}  // namespace

std::vector<std::string> Model::tables() const {
  return names_of(checked_->tables);
}
std::vector<std::string> Model::measures() const {
  return names_of(checked_->measures);
}
std::vector<std::string> Model::queries() const {
  return names_of(checked_->queries);
}

}  // namespace juniper
