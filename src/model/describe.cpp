#include "juniper/describe.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "language/functions.h"
#include "model/access.h"
#include "model/uses.h"

namespace juniper {

namespace {

using namespace language;

class Describer {
 public:
  explicit Describer(const CheckedModel& model) : model_(model), uses_(model) { note_names(); }

  std::vector<Description> all() {
    for (const Parameter& parameter : model_.parameters) add(parameter);
    for (const ModelFunction& function : model_.functions) add(function);
    for (TableIndex t = 0; t < model_.tables.size(); ++t) add(t);
    for (const Link& link : model_.links) {
      Description made = started(DescribedKind::link, model_.link_name(link), link.span);
      found_.push_back(std::move(made));
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) add_measure(m);
    for (const Query& query : model_.queries) add(query);
    for (const Reader& reader : model_.readers) add(reader);
    return std::move(found_);
  }

 private:
  Description started(DescribedKind kind, std::string name, Span span) const {
    Description made;
    made.kind = kind;
    made.name = std::move(name);
    made.place = model_.sources.place(span);
    return made;
  }

  // What each definition names, each thing once, in the order in which it stands there; by what is defined.
  void note_names() {
    std::set<std::pair<const void*, std::string>> seen;
    each_definition(model_, [&](const Definition& definition) {
      const void* const defined = defined_by(definition);
      const auto take = [&](const std::string& name) {
        if (seen.emplace(defined, name).second) rests_on_[defined].push_back(name);
      };
      each_mention(definition, [&](const Mention& mention) {
        if (mention.column) take(model_.column_name(*mention.column));
        if (mention.table) take(model_.tables[*mention.table].name);
        if (mention.measure) take(definition.model->measures[*mention.measure].name);
        if (mention.parameter) take(model_.parameters[*mention.parameter].name);
      });
    });
  }
  const void* defined_by(const Definition& definition) const {
    if (definition.query) return definition.query;
    if (definition.role == Role::measure) return definition.measure;
    if (definition.role == Role::calculated_column) return &model_.column(*definition.column);
    if (definition.role == Role::calculated_table) return &model_.tables[*definition.table];
    return nullptr;
  }

  static std::vector<std::string> listed(const std::vector<model::User>& users) {
    std::vector<std::string> list;
    for (const model::User& user : users) list.push_back(fmt::format("{} {}", to_string(user.kind), user.name));
    return list;
  }

  void add(const ModelFunction& function) {
    Description made = started(DescribedKind::function, function.name, function.span);
    made.description = function.description;
    made.definition = std::string(model_.sources.text(function.span));
    std::set<std::string> users;
    each_definition(model_, [&](const Definition& definition) {
      walk(definition.expression, [&](const Node& node) {
        if (!function.holds(node.span)) return;
        const std::string user = fmt::format("{} {}", to_string(model::kind_of(definition.role)), definition.name);
        if (users.insert(user).second) made.used_by.push_back(user);
      });
    });
    for (const ModelFunction& other : model_.functions) {
      if (other.body && syntax::called(*other.body).contains(function.name))
        made.used_by.push_back("function " + other.name);
    }
    found_.push_back(std::move(made));
  }
  void add(const Parameter& parameter) {
    Description made = started(DescribedKind::parameter, parameter.name, parameter.span);
    made.type = to_string(parameter.type);
    made.description = parameter.description;
    made.definition = to_text(parameter.value, parameter.type);
    const auto index = static_cast<std::uint32_t>(&parameter - model_.parameters.data());
    made.used_by = listed(uses_.of_parameter(index));
    found_.push_back(std::move(made));
  }

  void add(TableIndex t) {
    const Table& table = model_.tables[t];
    Description made =
        started(table.rows ? DescribedKind::calculated_table : DescribedKind::table, table.name, table.span);
    made.description = table.description;
    made.hidden = table.hidden;
    if (table.rows) {
      made.definition = model_.sources.text(table.rows->span);
      made.rests_on = rests_on_[&table];
    } else {
      const std::string options = base::details_text(table.source);
      made.definition =
          fmt::format("{} {} {}{}{}", table.source.live ? "live on" : "from", base::name_of(table.source.kind),
                      table.source.pattern, options.empty() ? "" : " ", options);
    }
    made.used_by = listed(uses_.of_table(t));
    found_.push_back(std::move(made));
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) add_column({t, c});
  }

  void add_column(ColumnId id) {
    const Column& column = model_.column(id);
    Description made = started(column.expression ? DescribedKind::calculated_column : DescribedKind::column,
                               model_.column_name(id), column.span);
    made.type = to_string(column.type);
    made.format = column.format;
    made.description = column.description;
    made.hidden = column.hidden || model_.tables[id.table].hidden;
    if (column.expression) {
      made.definition = model_.sources.text(column.expression->span);
      made.rests_on = rests_on_[&column];
    }
    made.used_by = listed(uses_.of(id));
    found_.push_back(std::move(made));
  }

  void add_measure(MeasureIndex m) {
    const Measure& measure = model_.measures[m];
    Description made = started(DescribedKind::measure, measure.name, measure.span);
    made.type = to_string(measure.expression->type);
    made.format = measure.format;
    made.description = measure.description;
    made.definition = model_.sources.text(measure.expression->span);
    made.hidden = measure.hidden;
    made.rests_on = rests_on_[&measure];
    made.used_by = listed(uses_.of_measure(m));
    found_.push_back(std::move(made));
  }

  // What it sees, and what it may not ask for.
  void add(const Reader& reader) {
    Description made = started(DescribedKind::reader, reader.name, reader.span);
    made.description = reader.description;
    std::vector<std::string> parts;
    for (const ReaderRows& rows : reader.rows) parts.emplace_back(model_.sources.text(rows.span));
    std::vector<std::string> hidden;
    for (const ColumnId column : reader.hidden_columns) hidden.push_back(model_.column_name(column));
    for (const std::string& measure : reader.hidden_measures) hidden.push_back("measure " + measure);
    if (!hidden.empty()) parts.push_back(fmt::format("hide {}", fmt::join(hidden, ", ")));
    made.definition = fmt::format("{}", fmt::join(parts, "; "));
    found_.push_back(std::move(made));
  }

  void add(const Query& query) {
    Description made = started(DescribedKind::query, query.name, query.span);
    made.description = query.title;
    made.definition = model_.sources.text(query.span);
    made.rests_on = rests_on_[&query];
    found_.push_back(std::move(made));
  }

  const CheckedModel& model_;
  const model::Uses uses_;
  std::map<const void*, std::vector<std::string>> rests_on_;
  std::vector<Description> found_;
};

}  // namespace

std::string_view to_string(DescribedKind kind) {
  switch (kind) {
    case DescribedKind::parameter:
      return "parameter";
    case DescribedKind::function:
      return "function";
    case DescribedKind::table:
      return "table";
    case DescribedKind::calculated_table:
      return "calculated table";
    case DescribedKind::column:
      return "column";
    case DescribedKind::calculated_column:
      return "calculated column";
    case DescribedKind::link:
      return "link";
    case DescribedKind::measure:
      return "measure";
    case DescribedKind::query:
      return "query";
    case DescribedKind::reader:
      return "reader";
  }
  return "";
}

Result<std::vector<Description>> describe(const Model& model, const std::string& name, Hidden hidden) {
  std::vector<Description> all = Describer(model::checked(model)).all();
  if (name.empty()) {
    if (hidden == Hidden::left_out) std::erase_if(all, [](const Description& d) { return d.hidden; });
    return all;
  }
  std::vector<std::string> names;
  for (const Description& d : all) names.push_back(d.name);
  const auto bears = [&](const Description& d) {
    const bool column = d.kind == DescribedKind::column || d.kind == DescribedKind::calculated_column;
    if (d.name == name) return true;
    return column && (d.name.starts_with(name + ".") || d.name.ends_with("." + name));
  };
  std::erase_if(all, [&](const Description& d) { return !bears(d); });
  if (all.empty()) {
    return tl::unexpected(
        base::error("JR-215", fmt::format("nothing is called '{}'", name), base::did_you_mean(name, names)));
  }
  return all;
}

}  // namespace juniper
