// Sets of rows: FROM, WHERE and what the rows are bound to.
#include <fmt/format.h>

#include <algorithm>

#include "sql/aliases.h"
#include "sql/translator.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

bool is_closed(const std::string& text) {
  return open_columns(text).empty();
}

std::string select_text(const RowsSql& rows, std::string_view words, const std::vector<std::string>& columns,
                        const std::vector<std::string>& where) {
  return fmt::format("SELECT {}{} FROM {}{}", words, joined(columns, ", "), from_text(*rows.from), where_text(where));
}

std::string field_name(std::size_t field) {
  return fmt::format("f{}", field);
}

}  // namespace

Scope Translator::inside(const Scope& scope, const RowSql& row) {
  Scope inner = scope;
  inner.rows.insert_or_assign(row.set->variable, row);
  return inner;
}

// What settles ties between rows: a table's key and then its order, or all fields.
std::vector<std::string> Translator::row_order(const RowSql& row) {
  std::vector<std::string> order;
  if (!row.table) return row.fields;
  for (std::uint32_t c = 0; c < model_.tables[*row.table].columns.size(); ++c) {
    if (!model_.tables[*row.table].columns[c].key) continue;
    order.push_back(column(*row.from, {*row.table, {}, {*row.table, c}}));
    break;
  }
  order.push_back(row.from->alias + ".\"row$\"");
  return order;
}

// `a` equals `b`: the rows are bound when one side is theirs and the other one of rows around.
void Translator::require_equal(RowsSql& rows, const std::string& a, const std::string& b, std::string condition) const {
  const std::set<std::string> own = defined_aliases(from_text(*rows.from));
  const auto is_own = [&](const std::string& column) { return own.contains(alias_of(column)); };
  const std::set<std::string> read_a = open_columns(a);
  const std::set<std::string> read_b = open_columns(b);
  const auto binds = [&](const std::set<std::string>& inner, const std::set<std::string>& outer) {
    return !inner.empty() && !outer.empty() && std::all_of(inner.begin(), inner.end(), is_own) &&
           std::none_of(outer.begin(), outer.end(), is_own);
  };
  if (binds(read_a, read_b)) {
    rows.bound.push_back({a, b, false});
  } else if (binds(read_b, read_a)) {
    rows.bound.push_back({b, a, false});
  } else {
    rows.where.push_back(std::move(condition));
  }
}

// All rows, with what they are bound to as columns p0, p1, …; nothing when they depend on rows around in another way.
std::optional<std::string> Translator::closed_select(const RowsSql& rows, std::string_view words,
                                                     const Columns& columns) const {
  if (rows.days) return std::nullopt;
  const std::map<std::string, std::string> inner = inner_values(rows);
  std::vector<std::string> selected;
  for (std::size_t b = 0; b < rows.bound.size(); ++b)
    selected.push_back(fmt::format("{} AS p{}", rows.bound[b].inner, b));
  for (const auto& [expression, name] : columns)
    selected.push_back(fmt::format("{} AS {}", substituted(expression, inner), name));
  std::vector<std::string> where;
  for (const std::string& condition : rows.where) where.push_back(substituted(condition, inner));
  std::string select = select_text(rows, words, selected, where);
  if (!is_closed(select)) return std::nullopt;
  return select;
}

// The rows that meet the values around.
std::string Translator::correlated_select(const RowsSql& rows, std::string_view words, const Columns& columns) const {
  std::vector<std::string> selected;
  for (const auto& [expression, name] : columns) selected.push_back(fmt::format("{} AS {}", expression, name));
  return select_text(rows, words, selected, conditions(rows));
}

// The rows of a part or subquery, which has a column for each of `bound`.
RowsSql Translator::over(const std::string& source, const std::vector<Bound>& bound) {
  RowsSql rows;
  rows.from = std::make_shared<From>();
  rows.from->source = source;
  rows.from->alias = next_alias();
  rows.row.from = rows.from;
  for (std::size_t b = 0; b < bound.size(); ++b)
    rows.bound.push_back({fmt::format("{}.p{}", rows.from->alias, b), bound[b].outer, bound[b].nulls_meet});
  return rows;
}

// Joins the table whose row's number a subquery holds, for its columns.
void Translator::read_table(RowsSql& rows, TableIndex table) {
  auto from = this->table(table);
  const std::string& numbers = rows.from->alias;
  from->clauses.push_back(fmt::format("ON {0}.\"row$\" = {1}.\"row$\"", from->alias, numbers));
  from->source = fmt::format("{} {} JOIN {}", rows.from->source, numbers, from->source);
  rows.from = from;
  rows.row.from = from;
  rows.row.table = table;
}

RowsSql Translator::rows(const RowSetPtr& set, const Scope& scope) {
  RowsSql rows = rows_of(set, scope);
  rows.row.set = set;
  return rows;
}

RowsSql Translator::rows_of(const RowSetPtr& set, const Scope& scope) {
  const auto input = [&] {
    RowsSql rows = this->rows(set->input, scope);
    rows.row.set = set;
    return rows;
  };
  switch (set->kind) {
    case RowsKind::table:
      return rows_of_table(set, scope);
    case RowsKind::members:
      return members(scope.rows.at(set->group));
    case RowsKind::named: {
      const auto& [named, around] = scope.sets.at(set->name);
      return rows(named, *around);
    }
    case RowsKind::days:  // a calculated table alone is made of them, and is read as any other
      std::abort();
    case RowsKind::distinct:
    case RowsKind::grouped:
      return groups(set, scope);
    case RowsKind::unite:
    case RowsKind::except:
    case RowsKind::intersect:
      return combined(set, scope);
    case RowsKind::filtered: {
      RowsSql rows = input();
      const Scope inner = inside(scope, rows.row);
      std::vector<NodePtr> conditions;
      split_conjunction(set->condition, conditions);
      for (const NodePtr& condition : conditions) {
        std::string text = "(" + value(condition, inner) + ")";
        if (condition->op == Op::equal) {
          require_equal(rows, "(" + value(condition->children[0], inner) + ")",
                        "(" + value(condition->children[1], inner) + ")", std::move(text));
        } else {
          rows.where.push_back(std::move(text));
        }
      }
      return rows;
    }
    case RowsKind::extended: {
      RowsSql rows = input();
      for (const NodePtr& item : set->values)
        rows.row.fields.push_back("(" + value(item, inside(scope, rows.row)) + ")");
      return rows;
    }
    case RowsKind::sorted: {
      RowsSql rows = input();
      for (std::size_t k = set->values.size(); k-- > 0;)
        rows.order.insert(rows.order.begin(), {value(set->values[k], inside(scope, rows.row)), set->descending[k]});
      return rows;
    }
    case RowsKind::top:
      return top(set, scope);
  }
  return {};
}

RowsSql Translator::rows_of_table(const RowSetPtr& set, const Scope& scope) {
  RowsSql rows;
  rows.row.slice = set->of ? narrowed(scope.rows.at(*set->of), scope) : scope.slice;
  if (set->via) rows.row.slice.roles = with_role(model_, rows.row.slice.roles, *set->via);
  if (set->across) drop(rows.row.slice, *set->across);
  rows.from = table(*set->table);
  rows.row.table = set->table;
  rows.row.from = rows.from;
  allow(rows, *set->table);
  return rows;
}

// A row is among the first n when fewer than n come before it, which is what RANK counts.
RowsSql Translator::top(const RowSetPtr& set, const Scope& scope) {
  RowsSql input = rows(set->input, scope);
  input.row.set = set;
  const std::string by = value(set->values[0], inside(scope, input.row));
  const std::string order = fmt::format("ORDER BY {} {} NULLS LAST", by, set->descending[0] ? "DESC" : "ASC");
  Columns columns{{by, "o0"}};
  for (std::size_t k = 0; k < input.order.size(); ++k)
    columns.emplace_back(input.order[k].first, fmt::format("o{}", k + 1));
  if (input.row.table) columns.emplace_back(input.row.from->alias + ".\"row$\"", "\"row$\"");
  for (std::size_t f = 0; f < input.row.fields.size(); ++f) columns.emplace_back(input.row.fields[f], field_name(f));

  Columns ranked = columns;
  std::string partition;
  for (const Bound& bound : input.bound) partition += (partition.empty() ? "PARTITION BY " : ", ") + bound.inner;
  ranked.emplace_back(fmt::format("RANK() OVER ({}{}{})", partition, partition.empty() ? "" : " ", order), "place");
  RowsSql rows;
  if (const auto select = closed_select(input, "", ranked)) {
    rows = over(parts_.add(*select), input.bound);
  } else {
    columns.emplace_back(fmt::format("RANK() OVER ({})", order), "place");
    rows = over("(" + correlated_select(input, "", columns) + ")", {});
  }
  const std::string alias = rows.from->alias;
  rows.row.slice = input.row.slice;
  rows.row.around = input.row.around;
  rows.where.push_back(fmt::format("{}.place <= {}", alias, set->count));
  rows.order.emplace_back(alias + ".o0", set->descending[0]);
  for (std::size_t k = 0; k < input.order.size(); ++k)
    rows.order.emplace_back(fmt::format("{}.o{}", alias, k + 1), input.order[k].second);
  if (input.row.table) read_table(rows, *input.row.table);
  for (std::size_t f = 0; f < input.row.fields.size(); ++f) rows.row.fields.push_back(alias + "." + field_name(f));
  rows.row.set = set;
  return rows;
}

RowsSql Translator::groups(const RowSetPtr& set, const Scope& scope) {
  const RowsSql input = rows(set->input, scope);
  Columns keys;
  for (std::size_t k = 0; k < set->values.size(); ++k)
    keys.emplace_back(value(set->values[k], inside(scope, input.row)), field_name(k));
  const auto select = closed_select(input, "DISTINCT ", keys);
  RowsSql rows = select ? over(parts_.add(*select), input.bound)
                        : over("(" + correlated_select(input, "DISTINCT ", keys) + ")", {});
  rows.row.slice = input.row.slice;
  rows.row.set = set;
  rows.row.around = std::make_shared<const Scope>(scope);
  for (std::size_t k = 0; k < keys.size(); ++k) rows.row.fields.push_back(rows.from->alias + "." + field_name(k));
  for (const NodePtr& result : set->results)
    rows.row.fields.push_back("(" + value(result, inside(scope, rows.row)) + ")");
  return rows;
}

// The rows that a group was made of: those of its input with its keys.
RowsSql Translator::members(const RowSql& group) {
  const RowSet* set = group.set.get();
  while (set->kind != RowsKind::grouped && set->kind != RowsKind::distinct) set = set->input.get();
  RowsSql rows = this->rows(set->input, *group.around);
  const Scope inner = inside(*group.around, rows.row);
  for (std::size_t k = 0; k < set->values.size(); ++k)
    rows.bound.push_back({"(" + value(set->values[k], inner) + ")", group.fields[k], true});
  return rows;
}

RowsSql Translator::combined(const RowSetPtr& set, const Scope& scope) {
  const RowsSql a = rows(set->input, scope);
  const RowsSql b = rows(set->other, scope);
  const auto identity = [&](const RowsSql& side) {
    Columns columns;
    if (side.row.table) columns.emplace_back(side.row.from->alias + ".\"row$\"", "\"row$\"");
    for (std::size_t f = 0; f < side.row.fields.size(); ++f) columns.emplace_back(side.row.fields[f], field_name(f));
    return columns;
  };
  const std::string_view word =
      set->kind == RowsKind::unite ? "UNION" : (set->kind == RowsKind::except ? "EXCEPT" : "INTERSECT");
  const bool same_bounds = std::equal(a.bound.begin(), a.bound.end(), b.bound.begin(), b.bound.end(),
                                      [](const Bound& one, const Bound& other) {
                                        return one.outer == other.outer && one.nulls_meet == other.nulls_meet;
                                      });
  const auto select_a = same_bounds ? closed_select(a, "", identity(a)) : std::nullopt;
  const auto select_b = select_a ? closed_select(b, "", identity(b)) : std::nullopt;
  RowsSql rows = select_b ? over(parts_.add(fmt::format("{} {} {}", *select_a, word, *select_b)), a.bound)
                          : over(fmt::format("({} {} {})", correlated_select(a, "", identity(a)), word,
                                             correlated_select(b, "", identity(b))),
                                 {});
  rows.row.slice = a.row.slice;
  const std::string alias = rows.from->alias;
  if (set->table) read_table(rows, *set->table);
  for (std::size_t f = 0; f < set->fields.size(); ++f) rows.row.fields.push_back(alias + "." + field_name(f));
  return rows;
}

}  // namespace juniper::sql_engine
