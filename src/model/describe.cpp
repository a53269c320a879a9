#include "juniper/describe.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/diagnostics.h"
#include "language/check.h"
#include "model/access.h"
#include "model/uses.h"

namespace juniper {

namespace {

using namespace language;

class Describer {
 public:
  explicit Describer(const CheckedModel& model) : model_(model) {}

  std::vector<Description> all() {
    for (const Parameter& parameter : model_.parameters) add(parameter);
    for (TableIndex t = 0; t < model_.tables.size(); ++t) add(t);
    for (const Link& link : model_.links) {
      Description made = started(DescribedKind::link, model::link_name(model_, link), link.span);
      found_.push_back(std::move(made));
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) add_measure(m);
    for (const Query& query : model_.queries) add(query);
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

  // What an expression names, each once, in the order in which it stands there.
  class Names {
   public:
    explicit Names(const CheckedModel& model) : model_(model) {}
    void add(const std::string& name) {
      if (seen_.insert(name).second) list.push_back(name);
    }
    void look(const RowSetPtr& rows) {
      if (!rows) return;
      look(rows->input);
      look(rows->other);
      if (rows->kind == RowsKind::table) add(model_.tables[*rows->table].name);
      walk(rows, [this](const Node& n) { take(n); });
    }
    void look(const NodePtr& node) {
      walk(node, [this](const Node& n) { take(n); });
    }
    std::vector<std::string> list;

   private:
    void take(const Node& n) {
      if (n.op == Op::column || n.op == Op::grouping) add(model_.column_name(n.column.column));
      if (n.op == Op::measure) add(model_.measures[n.measure].name);
      if (n.parameter) add(model_.parameters[*n.parameter].name);
      if (n.op == Op::aggregate) tables(n.rows);
    }
    void tables(const RowSetPtr& rows) {
      if (!rows) return;
      if (rows->kind == RowsKind::table) add(model_.tables[*rows->table].name);
      tables(rows->input);
      tables(rows->other);
    }
    const CheckedModel& model_;
    std::set<std::string> seen_;
  };

  // The definitions that hold a node for which `holds` is true.
  template <class Holds>
  std::vector<std::string> users(const Holds& holds) const {
    std::vector<std::string> found;
    const auto in = [&](const NodePtr& node) {
      bool any = false;
      walk(node, [&](const Node& n) { any = any || holds(n); });
      return any;
    };
    for (const Measure& m : model_.measures) {
      if (in(m.expression)) found.push_back("measure " + m.name);
    }
    for (const Table& table : model_.tables) {
      for (const Column& column : table.columns) {
        if (in(column.expression)) found.push_back("calculated column " + table.name + "." + column.name);
      }
      bool any = false;
      walk(table.rows, [&](const Node& n) { any = any || holds(n); });
      if (any) found.push_back("calculated table " + table.name);
    }
    for (const Query& query : model_.queries) {
      if (query.variant) continue;  // its nodes are those of another model
      bool any = query.having && in(query.having);
      for (const QueryShow& item : query.show) any = any || in(item.expression);
      for (const NodePtr& condition : query.where) any = any || in(condition);
      if (any) found.push_back("query " + query.name);
    }
    return found;
  }

  void add(const Parameter& parameter) {
    Description made = started(DescribedKind::parameter, parameter.name, parameter.span);
    made.type = to_string(parameter.type);
    made.description = parameter.description;
    made.definition = to_text(parameter.value, parameter.type);
    const auto index = static_cast<std::uint32_t>(&parameter - model_.parameters.data());
    made.used_by = users([&](const Node& n) { return n.parameter == index; });
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
      Names names(model_);
      names.look(table.rows);
      made.rests_on = names.list;
    } else {
      made.definition = "from csv " + table.source_pattern;
    }
    for (const Link& link : model_.links) {
      if (link.to.table == t) made.used_by.push_back("link " + model::link_name(model_, link));
    }
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
      Names names(model_);
      names.look(column.expression);
      made.rests_on = names.list;
    }
    for (const model::User& user : model::users_of_column(model_, id))
      made.used_by.push_back(fmt::format("{} {}", to_string(user.kind), user.name));
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
    Names names(model_);
    names.look(measure.expression);
    made.rests_on = names.list;
    made.used_by = users([&](const Node& n) { return n.op == Op::measure && n.measure == m; });
    for (const std::string& who : measure.used_by) made.used_by.push_back("declared use " + who);
    found_.push_back(std::move(made));
  }

  void add(const Query& query) {
    Description made = started(DescribedKind::query, query.name, query.span);
    made.description = query.title;
    made.definition = model_.sources.text(query.span);
    Names names(query.variant ? *query.variant : model_);
    for (const QueryBy& key : query.by) names.add(model_.column_name(key.column.column));
    for (const QueryShow& item : query.show) names.look(item.expression);
    for (const NodePtr& condition : query.where) names.look(condition);
    made.rests_on = names.list;
    found_.push_back(std::move(made));
  }

  const CheckedModel& model_;
  std::vector<Description> found_;
};

}  // namespace

std::string_view to_string(DescribedKind kind) {
  switch (kind) {
    case DescribedKind::parameter:
      return "parameter";
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
