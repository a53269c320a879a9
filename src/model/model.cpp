#include "juniper/model.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <tuple>

#include "base/diagnostics.h"
#include "base/files.h"
#include "language/check.h"
#include "language/parser.h"
#include "model/hidden.h"
#include "model/syntax_of.h"
#include "model/uses.h"

namespace juniper {

namespace {

// Places in a text are told in 32 bits.
constexpr std::size_t most_text_bytes = std::size_t{1} << 30;

Result<std::string> read_text(const std::string& path) {
  auto text = base::read_plain_file(path);
  if (text && text->size() > most_text_bytes) text = tl::unexpected(std::string("it is larger than 1 GB"));
  if (text) return std::move(*text);
  return tl::unexpected(base::error("JR-001", "cannot open the model text " + path + ": " + text.error(),
                                    "name a .ridge text, or the .jrs store made from one"));
}

// A text may come from a stranger, and messages show lines of what it includes: only of what is called a model text.
Result<std::string> read_included(const std::string& path) {
  std::error_code error;
  const std::filesystem::path target = std::filesystem::weakly_canonical(path, error);
  if (!error && target.extension() != ".ridge") {
    return tl::unexpected(
        base::error("JR-001", fmt::format("{} is not called a model text: its name has to end in .ridge",
                                          path == target ? path : path + " (" + target.string() + ")")));
  }
  return read_text(path);
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
  append(model.functions, from.functions);
  append(model.calendars, from.calendars);
  append(model.measures, from.measures);
  append(model.queries, from.queries);
  append(model.readers, from.readers);
  append(model.unread, from.unread);
}

// In the order of the texts, whichever stage found them.
void sort_by_place(Diagnostics& diagnostics) {
  std::stable_sort(diagnostics.begin(), diagnostics.end(), [](const Diagnostic& a, const Diagnostic& b) {
    return std::tuple(a.place.file, a.place.line, a.place.column) <
           std::tuple(b.place.file, b.place.line, b.place.column);
  });
}

// What is wrong with what is disabled, each problem once, and not what that leads to.
void append_told(const std::vector<language::Disabled>& disabled, Diagnostics& diagnostics) {
  for (const language::Disabled& definition : disabled) {
    for (const Diagnostic& problem : definition.problems) {
      if (language::rests_on_disabled(problem)) continue;
      if (std::find(diagnostics.begin(), diagnostics.end(), problem) == diagnostics.end())
        diagnostics.push_back(problem);
    }
  }
}

UserKind kind_of(language::DefinitionKind kind) {
  switch (kind) {
    case language::DefinitionKind::measure:
      return UserKind::measure;
    case language::DefinitionKind::calculated_column:
      return UserKind::calculated_column;
    case language::DefinitionKind::calculated_table:
      return UserKind::calculated_table;
    case language::DefinitionKind::query:
      return UserKind::query;
  }
  return UserKind::disabled;
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

namespace {

// One query, with definitions of its own if it has any, as one of the model's own is checked.
language::Query check_one(const language::CheckedModel& checked, const language::syntax::Model& definitions,
                          const language::syntax::Query& query, const ReadOptions& options, Diagnostics& problems) {
  if (query.drafts.empty()) return language::check_query(checked, query, {}, problems);
  language::Reading reading{options.settings, {}, checked.disabled};
  for (const auto& draft : query.drafts) reading.drafts.push_back(&draft);
  auto variant =
      std::make_shared<language::CheckedModel>(language::check_model(definitions, checked.sources, reading, problems));
  variant->files = checked.files;
  if (has_errors(problems)) return {};
  language::Query found = language::check_query(*variant, query, {}, problems);
  found.variant = std::move(variant);
  return found;
}

}  // namespace

void check_captured(language::CheckedModel& checked, language::syntax::Model& text, const ReadOptions& options) {
  text.queries.clear();
  for (std::uint32_t i = 0; i < options.captured.size(); ++i) {
    const CapturedQuery& captured = options.captured[i];
    if (checked.find_query(captured.query) != nullptr) continue;
    Diagnostics problems;
    const std::uint32_t file = checked.sources.add({captured.place, captured.query});
    const language::syntax::Query parsed = language::parse_query(checked.sources, file, problems);
    language::Query query;
    if (!has_errors(problems)) query = check_one(checked, text, parsed, options, problems);
    if (has_errors(problems)) {
      checked.not_understood.push_back({i, problems.front()});
      continue;
    }
    query.name = captured.place;
    query.captured = i;
    checked.captured.push_back(std::move(query));
  }
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
  const language::Reading reading{options.settings, {}};
  const bool disables = options.disable_wrong && !options.strict;
  auto checked = std::make_shared<language::CheckedModel>(
      disables ? language::check_what_holds(tree, sources, reading, diagnostics)
               : language::check_model(tree, sources, reading, diagnostics));
  checked->files = checked->sources.size();
  if (!has_errors(diagnostics) && !options.reader.empty()) {
    if (auto acts = model::act_as(*checked, options.reader); !acts) return tl::unexpected(acts.error());
  }
  if (!has_errors(diagnostics)) model::check_captured(*checked, tree, options);
  sort_by_place(diagnostics);
  if (options.strict) {
    for (Diagnostic& diagnostic : diagnostics) diagnostic.severity = Severity::error;
  }
  if (has_errors(diagnostics)) {
    append_told(checked->disabled, diagnostics);
    sort_by_place(diagnostics);
    return tl::unexpected(std::move(diagnostics));
  }
  return Model(std::move(checked), std::make_shared<const Diagnostics>(std::move(diagnostics)),
               std::make_shared<const ReadOptions>(options));
}

Result<Model> Model::read(const std::string& path, const ReadOptions& options) {
  auto text = read_text(path);
  if (!text) return tl::unexpected(text.error());
  return build({path, std::move(*text)}, read_included, options);
}

Result<Model> Model::parse(std::string name, std::string text, const ReadOptions& options) {
  return build({std::move(name), std::move(text)}, read_included, options);
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
  for (std::uint32_t file = 0; file < checked_->files; ++file)
    texts.push_back({checked_->sources[file].name, checked_->sources[file].text});
  return texts;
}
Diagnostics Model::not_understood() const {
  Diagnostics problems;
  for (const language::NotUnderstood& query : checked_->not_understood) problems.push_back(query.problem);
  return problems;
}
std::vector<DisabledInfo> Model::disabled() const {
  std::vector<DisabledInfo> infos;
  for (const language::Disabled& disabled : checked_->disabled) {
    infos.push_back(
        {kind_of(disabled.kind), disabled.full_name(), checked_->sources.place(disabled.span), disabled.problems});
  }
  return infos;
}
Diagnostics Model::disabled_problems() const {
  Diagnostics problems;
  if (checked_->disabled.empty()) return problems;
  append_told(checked_->disabled, problems);
  sort_by_place(problems);
  constexpr std::size_t most_names = 12;
  const std::size_t count = checked_->disabled.size();
  std::string list;
  for (std::size_t i = 0; i < std::min(count, most_names); ++i) {
    const language::Disabled& disabled = checked_->disabled[i];
    list += fmt::format("{}{} {}", i == 0 ? "" : ", ", to_string(disabled.kind), disabled.full_name());
  }
  if (count > most_names) list += fmt::format(" and {} more", count - most_names);
  const Diagnostics told = base::error(
      "JR-220",
      fmt::format("{} disabled by {}: {}", count == 1 ? "1 definition is" : fmt::format("{} definitions are", count),
                  problems.size() == 1 ? "this error" : "these errors", list),
      "the rest of the model answers; --strict stops here instead");
  problems.insert(problems.end(), told.begin(), told.end());
  return problems;
}
const std::string& Model::title() const {
  return checked_->name;
}

namespace {

using language::CheckedModel;
using language::LinkEnd;

ColumnInfo info_of(const CheckedModel& model, const language::Table& table, const language::Column& column) {
  ColumnInfo info;
  info.name = column.name;
  info.type = column.type;
  info.is_key = column.key;
  info.is_calculated = column.is_calculated();
  info.is_hidden = column.hidden;
  if (column.expression) info.definition = model.sources.text(column.expression->span);
  info.header = column.header;
  if (column.sorted_by) info.sorted_by = table.columns[*column.sorted_by].name;
  info.format = column.format;
  info.description = column.description;
  info.used_by = column.used_by;
  info.place = model.sources.place(column.span);
  return info;
}

std::vector<std::string> column_names(const CheckedModel& model, const LinkEnd& end) {
  std::vector<std::string> names;
  for (const std::uint32_t column : end.columns) names.push_back(model.tables[end.table].columns[column].name);
  return names;
}

}  // namespace

std::vector<TableInfo> Model::tables() const {
  std::vector<TableInfo> infos;
  for (const language::Table& table : checked_->tables) {
    TableInfo& info = infos.emplace_back();
    info.name = table.name;
    info.is_calculated = table.rows != nullptr;
    info.is_hidden = table.hidden;
    if (table.rows) info.definition = checked_->sources.text(table.rows->span);
    info.source = table.source.pattern;
    info.description = table.description;
    for (const language::Column& column : table.columns) info.columns.push_back(info_of(*checked_, table, column));
    for (const language::TableKey& key : table.keys) {
      std::vector<std::string>& names = info.keys.emplace_back();
      for (const std::uint32_t column : key.columns) names.push_back(table.columns[column].name);
    }
    info.place = checked_->sources.place(table.span);
  }
  return infos;
}

std::vector<LinkInfo> Model::links() const {
  std::vector<LinkInfo> infos;
  for (const language::Link& link : checked_->links) {
    infos.push_back({checked_->link_name(link), checked_->tables[link.from.table].name,
                     column_names(*checked_, link.from), checked_->tables[link.to.table].name,
                     column_names(*checked_, link.to), link.role, checked_->sources.place(link.span)});
  }
  return infos;
}

std::vector<MeasureInfo> Model::measures() const {
  std::vector<MeasureInfo> infos;
  for (const language::Measure& measure : checked_->measures) {
    const language::Span written = measure.expression->span;
    infos.push_back({measure.name, measure.expression->type, measure.hidden,
                     std::string(checked_->sources.text(written)), measure.format, measure.description, measure.used_by,
                     checked_->sources.place(measure.span)});
  }
  return infos;
}

std::vector<ParameterInfo> Model::parameters() const {
  std::vector<ParameterInfo> infos;
  for (const language::Parameter& parameter : checked_->parameters) {
    infos.push_back({parameter.name, parameter.type, parameter.value, parameter.description,
                     checked_->sources.place(parameter.span)});
  }
  return infos;
}

std::vector<FunctionInfo> Model::functions() const {
  std::vector<FunctionInfo> infos;
  for (const language::ModelFunction& function : checked_->functions) {
    infos.push_back({function.name, function.arguments, std::string(checked_->sources.text(function.span)),
                     function.description, checked_->sources.place(function.span)});
  }
  return infos;
}

std::vector<ReaderInfo> Model::readers() const {
  std::vector<ReaderInfo> infos;
  for (const language::Reader& reader : checked_->readers) {
    ReaderInfo& info = infos.emplace_back();
    info.name = reader.name;
    info.description = reader.description;
    info.place = checked_->sources.place(reader.span);
    for (const language::ReaderRows& rows : reader.rows) info.rows.emplace_back(checked_->sources.text(rows.span));
    for (const language::ColumnId column : reader.hidden_columns) info.hidden.push_back(checked_->column_name(column));
    for (const std::string& measure : reader.hidden_measures) info.hidden.push_back("measure " + measure);
  }
  return infos;
}

std::vector<QueryInfo> Model::queries() const {
  std::vector<QueryInfo> infos;
  for (const language::Query& query : checked_->queries) {
    infos.push_back({query.name, query.title, std::string(checked_->sources.text(query.span)),
                     checked_->sources.place(query.span)});
  }
  return infos;
}

}  // namespace juniper
