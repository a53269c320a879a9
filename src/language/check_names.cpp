// What names and paths mean where they stand.
#include <algorithm>

#include "language/expression_checker.h"

namespace juniper::language {

using syntax::Expression;

std::vector<std::string> ExpressionChecker::column_names(TableIndex table) const {
  std::vector<std::string> names;
  for (const Column& c : model_.tables[table].columns) names.push_back(c.name);
  return names;
}

std::vector<std::string> ExpressionChecker::measure_names() const {
  std::vector<std::string> names;
  for (const Measure& m : model_.measures) names.push_back(m.name);
  for (const Parameter& p : model_.parameters) names.push_back(p.name);
  for (const NameInScope& n : scope_.names) names.push_back(n.name);
  return names;
}

std::vector<std::string> ExpressionChecker::table_and_role_names() const {
  std::vector<std::string> names;
  for (const Table& t : model_.tables) names.push_back(t.name);
  for (const Link& l : model_.links) {
    if (!l.role.empty()) names.push_back(l.role);
  }
  return names;
}

// "write stations.region" for a column that only another table has.
std::string ExpressionChecker::elsewhere(const std::string& column) const {
  for (const Table& t : model_.tables) {
    if (t.find(column)) return fmt::format("write {}.{}", written_name(t.name), written_name(column));
  }
  return "";
}

// How the text names a row: "s", "this", or "row".
std::string ExpressionChecker::row_text(const RowInScope& row) const {
  return row.name.empty() ? "row" : written_name(row.name);
}

// The innermost row of that name.
const RowInScope* ExpressionChecker::find_row(const std::string& name) const {
  const auto at = std::find_if(scope_.rows.rbegin(), scope_.rows.rend(), [&](const RowInScope& row) {
    return row.name == name || (row.name.empty() && name == "row");
  });
  return at == scope_.rows.rend() ? nullptr : &*at;
}

bool ExpressionChecker::is_disabled(Span use, DefinitionKind kind, const std::string& name, const std::string& table) {
  const Disabled* const disabled = model_.find_disabled(kind, name, table);
  if (disabled != nullptr) diagnostics_.push_back(told_disabled(model_.sources, use, *disabled));
  return disabled != nullptr;
}

std::optional<LinkIndex> ExpressionChecker::find_role(const syntax::Name& name) {
  std::vector<std::string> roles;
  for (LinkIndex i = 0; i < model_.links.size(); ++i) {
    if (model_.links[i].role == name.text) return i;
    if (!model_.links[i].role.empty()) roles.push_back(model_.links[i].role);
  }
  error(name.span, "JR-201", fmt::format("there is no role '{}'", name.text), base::did_you_mean(name.text, roles));
  return std::nullopt;
}

NodePtr ExpressionChecker::column_node(const Expression& e, VariableId variable, const ColumnRef& ref) {
  const auto type = definitions_.column_type(ref.column, e.span);
  if (!type) return nullptr;
  auto node = std::make_shared<Node>();
  node->op = Op::column;
  node->type = *type;
  node->span = e.span;
  node->variable = variable;
  node->column = ref;
  return node;
}

// A name of `let` or a parameter; null when the path is neither.
NodePtr ExpressionChecker::scalar_name(const Expression& e) {
  if (e.path.parts.size() != 1) return nullptr;
  const std::string& name = e.path.parts[0].text;
  const auto local =
      std::find_if(scope_.names.rbegin(), scope_.names.rend(), [&](const NameInScope& n) { return n.name == name; });
  auto node = std::make_shared<Node>();
  node->span = e.span;
  if (local != scope_.names.rend() && !local->rows) {
    node->op = Op::name;
    node->type = local->type;
    node->variable = local->variable;
    return node;
  }
  for (std::uint32_t i = 0; i < model_.parameters.size(); ++i) {
    const Parameter& parameter = model_.parameters[i];
    if (parameter.name != name) continue;
    node->type = parameter.type;
    node->literal = parameter.value;
    node->parameter = i;
    return node;
  }
  return nullptr;
}

NodePtr ExpressionChecker::path(const Expression& e) {
  if (NodePtr scalar = scalar_name(e)) {
    const std::string& name = e.path.parts[0].text;
    if (key_named(e.path, scope_.keys) != nullptr) {
      return error(e.span, "JR-212", fmt::format("'{}' is both a key of this query and a name of the model", name),
                   "give the key another name: … as NAME");
    }
    for (const RowInScope& row : scope_.rows) {
      if (scope_.kind != ScopeKind::row || !row.table || !model_.tables[*row.table].find(name)) continue;
      return error(e.span, "JR-212",
                   fmt::format("'{}' is both a name of its own and a column of the row in scope", name),
                   fmt::format("write {}.{} for the column, or rename one", row_text(row), written_name(name)));
    }
    return scalar;
  }
  switch (scope_.kind) {
    case ScopeKind::measure:
      return measure_path(e);
    case ScopeKind::row:
      return row_path(e);
    case ScopeKind::slice:
      break;
  }
  const std::string& first = e.path.parts.front().text;
  if (e.path.parts.size() > 1) {
    if (const RowInScope* row = find_row(first)) return column_of_row(e, *row, 1);
  } else if (scope_.aggregates && model_.find_measure(first)) {
    return scope_.in_row ? bare_measure_in_row(e) : measure_path(e);
  }
  if (const QueryBy* key = key_named(e.path, scope_.keys)) return key->expression;
  const auto ref = slice_column(e.path);
  return ref ? column_node(e, slice_row, *ref) : nullptr;
}

// The key of this name, where a clause of the query may use it.
const QueryBy* ExpressionChecker::key_named(const syntax::Path& p, const std::vector<QueryBy>* keys) {
  if (keys == nullptr || p.parts.size() != 1) return nullptr;
  const auto key =
      std::find_if(keys->begin(), keys->end(), [&](const QueryBy& k) { return k.name == p.parts[0].text; });
  return key == keys->end() ? nullptr : &*key;
}

NodePtr ExpressionChecker::measure_path(const Expression& e) {
  const syntax::Name& first = e.path.parts.front();
  if (e.path.parts.size() > 1) {
    if (const RowInScope* row = find_row(first.text)) return column_of_row(e, *row, 1);
    if (const QueryBy* key = key_column(e.path)) return key_value(e, *key);
    return error(
        e.span, "JR-402", fmt::format("'{}' is a column, and a measure has no row to read it from", written(e.span)),
        fmt::format("say what to make of its many values: max({} for {})", written(e.span), written_name(first.text)));
  }
  if (scope_.shown != nullptr) {
    for (const QueryShow& item : *scope_.shown) {
      if (item.name == first.text) return item.expression;
    }
  }
  if (const QueryBy* key = key_named(e.path, scope_.keys)) return key_value(e, *key);
  if (const auto measure = model_.find_measure(first.text)) {
    const auto type = definitions_.measure_type(*measure, e.span);
    if (!type) return nullptr;
    auto node = std::make_shared<Node>();
    node->op = Op::measure;
    node->type = *type;
    node->span = e.span;
    node->measure = *measure;
    return node;
  }
  if (is_disabled(e.span, DefinitionKind::measure, first.text)) return nullptr;
  for (const Table& t : model_.tables) {
    if (t.find(first.text)) {
      return error(e.span, "JR-402",
                   fmt::format("'{}' is a column, and a measure has no row to read it from", first.text),
                   fmt::format("say what to make of its many values: sum({} for {})", written_name(first.text),
                               written_name(t.name)));
    }
  }
  if (model_.find_table(first.text)) {
    const std::string table = written_name(first.text);
    return error(
        e.span, "JR-204", fmt::format("'{}' is a table, and a value was expected", first.text),
        fmt::format("count its rows, count({0}), or those of each row: sum(count({0} of s) for s in …)", table));
  }
  return error(e.span, "JR-204", fmt::format("there is no measure '{}'", first.text),
               base::did_you_mean(first.text, measure_names()));
}

// The key that is this column, however it is named.
const QueryBy* ExpressionChecker::key_column(const syntax::Path& p) {
  if (scope_.keys == nullptr) return nullptr;
  const bool is_table = model_.find_table(p.parts[0].text).has_value();
  const bool is_role = std::any_of(model_.links.begin(), model_.links.end(),
                                   [&](const Link& link) { return link.role == p.parts[0].text; });
  const auto ref = is_table || is_role ? slice_column(p) : std::nullopt;
  if (!ref) return nullptr;
  const auto key = std::find_if(scope_.keys->begin(), scope_.keys->end(),
                                [&](const QueryBy& k) { return k.is_column() && k.column() == *ref; });
  return key == scope_.keys->end() ? nullptr : &*key;
}

// In `having`: what the group's rows have in common.
NodePtr ExpressionChecker::key_value(const Expression& e, const QueryBy& key) {
  auto node = std::make_shared<Node>();
  node->op = Op::name;
  node->type = key.type();
  node->span = e.span;
  node->variable = key.variable;
  return node;
}

// The classic silent mistake: a measure's name where a row stands could mean its total or the row's own value.
NodePtr ExpressionChecker::bare_measure_in_row(const Expression& e) {
  const std::string name = written_name(e.path.parts.front().text);
  const RowInScope& row = scope_.rows.back();
  const std::string what = row.table ? "a row of " + model_.tables[*row.table].name : "a row";
  return error(
      e.span, "JR-401",
      fmt::format("'{}' is a measure, and here stands {}: its total, and its value for this row, are different "
                  "numbers",
                  name, what),
      fmt::format("say `{} of {}` or `{} of slice`", name, row_text(row), name));
}

// --- where rows are in scope ----------------------------------------------------------------------------------------

NodePtr ExpressionChecker::row_path(const Expression& e) {
  const syntax::Name& first = e.path.parts.front();
  if (e.path.parts.size() == 1) return bare_in_rows(e);
  if (const RowInScope* row = find_row(first.text)) return column_of_row(e, *row, 1);
  if (first.text == "this") {
    return error(first.span, "JR-202", "`this` is the row of a calculated column, and this is no part of one",
                 "name the row: for s in …");
  }
  // A table or a role: of the rows from which it can be reached.
  std::vector<const RowInScope*> fitting;
  for (const RowInScope& row : scope_.rows) {
    if (!row.table) continue;
    TableIndex goal = *row.table;
    if (const auto table = model_.find_table(first.text)) {
      goal = *table;
    } else {
      const auto role = std::find_if(model_.links.begin(), model_.links.end(),
                                     [&](const Link& link) { return link.role == first.text; });
      if (role == model_.links.end()) continue;
      goal = role->from.table;
    }
    if (!model_.paths(*row.table, goal, row.roles).empty()) fitting.push_back(&row);
  }
  if (fitting.size() > 1) {
    return error(e.span, "JR-212",
                 fmt::format("'{}' can be read from {} rows in scope", written(e.span), fitting.size()),
                 fmt::format("say from which: {}.{} or {}.{}", row_text(*fitting[0]), written(e.span),
                             row_text(*fitting[1]), written(e.span)));
  }
  if (!fitting.empty()) return column_of_row(e, *fitting.front(), 0);
  for (const RowInScope& row : scope_.rows) {
    if (row.table) return column_of_row(e, row, 0);  // tells what is wrong
  }
  return error(e.span, "JR-202", fmt::format("there is no row of a table here to read '{}' from", written(e.span)),
               "the row's own columns are written without a table");
}

NodePtr ExpressionChecker::bare_in_rows(const Expression& e) {
  const syntax::Name& name = e.path.parts.front();
  const auto holds = [&](const RowInScope& row) {
    if (row.table && model_.tables[*row.table].find(name.text)) return true;
    return row.set && std::any_of(row.set->fields.begin(), row.set->fields.end(),
                                  [&](const Field& field) { return field.name == name.text; });
  };
  std::vector<const RowInScope*> fitting;
  for (const RowInScope& row : scope_.rows) {
    if (row.table && is_disabled(e.span, DefinitionKind::calculated_column, name.text, model_.tables[*row.table].name))
      return nullptr;
    if (holds(row)) fitting.push_back(&row);
  }
  if (fitting.size() > 1) {
    const std::string inner = row_text(*fitting.back());
    const std::string outer = row_text(*fitting[fitting.size() - 2]);
    return error(e.span, "JR-212", fmt::format("'{}' fits {} rows in scope", name.text, fitting.size()),
                 inner == outer ? "give the rows names and say which is meant: t." + written(e.span) + " for t in …"
                                : fmt::format("say which row is meant: {}.{} or {}.{}", outer, written(e.span), inner,
                                              written(e.span)));
  }
  if (!fitting.empty()) return column_of_row(e, *fitting.front(), 0);
  if (model_.find_measure(name.text)) return bare_measure_in_row(e);
  if (is_disabled(e.span, DefinitionKind::measure, name.text)) return nullptr;
  return column_of_row(e, scope_.rows.back(), 0);  // tells what is wrong
}

// The parts from `next` on, as read from one row.
NodePtr ExpressionChecker::column_of_row(const Expression& e, const RowInScope& row, std::size_t next) {
  const syntax::Path& p = e.path;
  if (next + 1 == p.parts.size() && row.set) {
    const auto& fields = row.set->fields;
    const auto at = std::find_if(fields.begin(), fields.end(),
                                 [&](const Field& field) { return field.name == p.parts[next].text; });
    if (at != fields.end()) {
      auto node = std::make_shared<Node>();
      node->op = Op::field;
      node->type = at->type;
      node->span = e.span;
      node->variable = row.variable;
      node->field = static_cast<std::uint32_t>(at - fields.begin());
      return node;
    }
  }
  if (!row.table) {
    std::vector<std::string> names;
    for (const Field& field : row.set->fields) names.push_back(field.name);
    std::string list;
    for (const std::string& name : names) list += (list.empty() ? "" : ", ") + name;
    const std::string guess = base::did_you_mean(p.parts.back().text, names);
    return error(p.parts[next].span, "JR-202",
                 fmt::format("the row {} has no '{}'; it has {}", row_text(row), written(e.span), list), guess);
  }
  if (next == 0 && p.parts.size() > 1 && p.parts[0].text == model_.tables[*row.table].name) next = 1;
  const auto ref = follow(p, next, {*row.table, {}, {*row.table, 0}}, row.roles);
  return ref ? column_node(e, row.variable, *ref) : nullptr;
}

// --- where a slice stands -------------------------------------------------------------------------------------------

std::optional<ColumnRef> ExpressionChecker::slice_column(const syntax::Path& p) {
  const syntax::Name& first = p.parts.front();
  if (p.parts.size() == 1) {
    if (model_.find_measure(first.text)) {
      return no_column(p.span, "JR-405", fmt::format("'{}' is a measure; rows are chosen by columns here", first.text));
    }
    if (is_disabled(p.span, DefinitionKind::measure, first.text)) return std::nullopt;
    return no_column(p.span, "JR-202", fmt::format("'{}' needs the table it belongs to", first.text),
                     elsewhere(first.text));
  }
  if (const auto table = model_.find_table(first.text)) return follow(p, 1, ColumnRef{*table, {}, {*table, 0}}, {});
  for (LinkIndex i = 0; i < model_.links.size(); ++i) {
    const Link& link = model_.links[i];
    if (link.role == first.text) return follow(p, 1, ColumnRef{link.from.table, {i}, {link.to.table, 0}}, {});
  }
  if (is_disabled(first.span, DefinitionKind::calculated_table, first.text)) return std::nullopt;
  return no_column(first.span, "JR-201", fmt::format("there is no table or role '{}'", first.text),
                   base::did_you_mean(first.text, table_and_role_names()));
}

// Follows the parts from `next` on, the last of which is the column.
std::optional<ColumnRef> ExpressionChecker::follow(const syntax::Path& p, std::size_t next, ColumnRef ref,
                                                   const CheckedModel::Roles& roles) {
  for (; next + 1 < p.parts.size(); ++next) {
    if (!hop(p.parts[next], ref, roles)) return std::nullopt;
  }
  const syntax::Name& name = p.parts.back();
  const Table& table = model_.tables[ref.column.table];
  const auto column = table.find(name.text);
  if (!column) {
    if (is_disabled(name.span, DefinitionKind::calculated_column, name.text, table.name) ||
        is_disabled(name.span, DefinitionKind::calculated_table, table.name))
      return std::nullopt;
    std::string fix = base::did_you_mean(name.text, column_names(ref.column.table));
    if (fix.empty() && p.parts.size() == 1) fix = elsewhere(name.text);
    return no_column(name.span, "JR-202", fmt::format("there is no column '{}' in table '{}'", name.text, table.name),
                     fix);
  }
  ref.column.column = *column;
  return ref;
}

bool ExpressionChecker::hop(const syntax::Name& name, ColumnRef& ref, const CheckedModel::Roles& roles) {
  for (LinkIndex i = 0; i < model_.links.size(); ++i) {
    const Link& link = model_.links[i];
    if (link.role != name.text || link.role.empty()) continue;
    return extend(name, ref, link.from.table, i, roles);
  }
  const auto table = model_.find_table(name.text);
  if (!table) {
    if (is_disabled(name.span, DefinitionKind::calculated_table, name.text)) return false;
    error(name.span, "JR-201", fmt::format("there is no table or role '{}'", name.text),
          base::did_you_mean(name.text, table_and_role_names()));
    return false;
  }
  return extend(name, ref, *table, std::nullopt, roles);
}

// Adds the way to `goal`, and then `last`, to the path.
bool ExpressionChecker::extend(const syntax::Name& name, ColumnRef& ref, TableIndex goal, std::optional<LinkIndex> last,
                               const CheckedModel::Roles& roles) {
  const auto ways = model_.paths(ref.column.table, goal, roles);
  const std::string& from = model_.tables[ref.column.table].name;
  if (ways.empty()) {
    const bool reverse = !model_.paths(goal, ref.column.table).empty();
    error(name.span, "JR-207", fmt::format("no link leads from {} to {}", from, name.text),
          reverse ? fmt::format("links go from many to one, and {} has many rows for one of {}: aggregate them",
                                name.text, from)
                  : fmt::format("declare it: link {}.COLUMN -> {}.KEY", written_name(from), written_name(name.text)));
    return false;
  }
  if (ways.size() > 1) {
    std::string list;
    for (const auto& way : ways) {
      std::string written_way;
      for (const LinkIndex i : way)
        written_way += (written_way.empty() ? "" : ".") + model_.tables[model_.links[i].to.table].name;
      list += (list.empty() ? "" : ", ") + written_way;
    }
    error(name.span, "JR-208", fmt::format("several paths lead from {} to {}", from, name.text),
          fmt::format("write the one that is meant: {}", list));
    return false;
  }
  ref.path.insert(ref.path.end(), ways.front().begin(), ways.front().end());
  ref.column.table = goal;
  if (last) {
    ref.path.push_back(*last);
    ref.column.table = model_.links[*last].to.table;
  }
  return true;
}

}  // namespace juniper::language
