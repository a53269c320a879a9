#include "juniper/model.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <tuple>

#include "base/diagnostics.h"
#include "language/check.h"
#include "language/parser.h"
#include "model/syntax_of.h"

namespace juniper {

namespace {

Result<std::string> read_file(const std::string& path) {
  std::error_code ignored;
  std::ifstream file(path, std::ios::binary);
  if (!file || std::filesystem::is_directory(path, ignored)) {
    return tl::unexpected(
        base::error("JR-001", "cannot open the model text " + path + ": " + std::strerror(file ? EISDIR : errno),
                    "name a .ridge text, or the .jrs store made from one"));
  }
  return std::string{std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
}

// `file` as named by an include in the file `name`.
std::string beside(const std::string& name, const std::string& file) {
  return (std::filesystem::path(name).parent_path() / file).lexically_normal().string();
}

template <class Item>
void append(std::vector<Item>& to, std::vector<Item>& from) {
  to.insert(to.end(), std::make_move_iterator(from.begin()), std::make_move_iterator(from.end()));
}

void append(language::syntax::Model& model, language::syntax::Model& from) {
  if (from.name && !model.name) model.name = from.name;
  append(model.tables, from.tables);
  append(model.links, from.links);
  append(model.parameters, from.parameters);
  append(model.calendars, from.calendars);
  append(model.measures, from.measures);
  append(model.queries, from.queries);
}

// In the order of the texts, whichever stage found them.
void sort_by_place(Diagnostics& diagnostics) {
  std::stable_sort(diagnostics.begin(), diagnostics.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::tuple(a.place.file, a.place.line, a.place.column) <
           std::tuple(b.place.file, b.place.line, b.place.column);
  });
}

}  // namespace

namespace model {

language::syntax::Model parse_all(const language::Sources& sources, std::uint32_t files, Diagnostics& diagnostics) {
  language::syntax::Model all;
  for (std::uint32_t file = 0; file < files; ++file) {
    language::syntax::Model part = language::parse_model(sources, file, diagnostics);
    append(all, part);
  }
  return all;
}

}  // namespace model

// `find` gives the text of an included file by its name.
template <class Find>
Result<Model> Model::build(ModelText first, const Find& find, const ReadOptions& options) {
  language::Sources sources;
  Diagnostics diagnostics;
  language::syntax::Model tree;
  std::vector<std::string> names{first.name};
  sources.add({std::move(first.name), std::move(first.text)});
  for (std::uint32_t file = 0; file < sources.size(); ++file) {
    language::syntax::Model part = language::parse_model(sources, file, diagnostics);
    append(tree, part);
    for (const auto& include : part.includes) {
      const std::string name = beside(names[file], include.file);
      if (std::find(names.begin(), names.end(), name) != names.end()) {
        diagnostics.push_back(sources.diagnostic(Severity::error, "JR-214", include.span,
                                                 "'" + name + "' is part of the model already", "include a file once"));
        continue;
      }
      auto text = find(name);
      if (!text) {
        diagnostics.push_back(sources.diagnostic(Severity::error, "JR-001", include.span, text.error()[0].message,
                                                 "the path is relative to the file that names it"));
        continue;
      }
      names.push_back(name);
      sources.add({name, std::move(*text)});
    }
  }
  auto checked = std::make_shared<language::CheckedModel>(
      language::check_model(tree, sources, {options.settings, {}}, diagnostics));
  sort_by_place(diagnostics);
  if (options.strict) {
    for (Diagnostic& diagnostic : diagnostics) diagnostic.severity = Severity::error;
  }
  if (has_errors(diagnostics)) return tl::unexpected(std::move(diagnostics));
  return Model(std::move(checked), std::make_shared<const Diagnostics>(std::move(diagnostics)),
               std::make_shared<const ReadOptions>(options));
}

Result<Model> Model::read(const std::string& path, const ReadOptions& options) {
  auto text = read_file(path);
  if (!text) return tl::unexpected(text.error());
  return build({path, std::move(*text)}, read_file, options);
}

Result<Model> Model::parse(std::string name, std::string text, const ReadOptions& options) {
  return build({std::move(name), std::move(text)}, read_file, options);
}

Result<Model> Model::parse(const std::vector<ModelText>& texts, const ReadOptions& options) {
  const auto find = [&](const std::string& name) -> Result<std::string> {
    const auto at = std::find_if(texts.begin(), texts.end(), [&](const ModelText& text) { return text.name == name; });
    if (at == texts.end()) return tl::unexpected(base::error("JR-001", "there is no text of the included " + name));
    return at->text;
  };
  return build(texts.front(), find, options);
}

const std::string& Model::path() const {
  return checked_->sources[0].name;
}
const std::string& Model::text() const {
  return checked_->sources[0].text;
}
std::vector<ModelText> Model::texts() const {
  std::vector<ModelText> texts;
  for (std::uint32_t file = 0; file < checked_->sources.size(); ++file)
    texts.push_back({checked_->sources[file].name, checked_->sources[file].text});
  return texts;
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
