// The checked tree: every name resolved, every expression typed, conversions written out. Immutable once made, so
// that plans, refactorings and threads may share its nodes.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/value.h"
#include "language/source_text.h"

namespace juniper::language {

// Indexes into CheckedModel.
using TableIndex = std::uint32_t;
using LinkIndex = std::uint32_t;
using MeasureIndex = std::uint32_t;

struct ColumnId {
  TableIndex table = 0;
  std::uint32_t column = 0;

  auto operator<=>(const ColumnId&) const = default;
};

// A column as seen from a row of table `start`: follow `path` (links, many side to one), then read `column`.
struct ColumnRef {
  TableIndex start = 0;
  std::vector<LinkIndex> path;
  ColumnId column;

  bool operator==(const ColumnRef&) const = default;
};

enum class Op : std::uint8_t {
  literal,    // literal
  column,     // column
  measure,    // measure
  aggregate,  // aggregate, rows; children: the expression, none for a count of rows
  // Arithmetic over operands of one type, except that multiply adds scales and divide gives a real.
  add,
  subtract,
  multiply,
  divide,
  int_divide,
  modulo,
  negate,
  // Comparisons of two operands of one type.
  equal,
  not_equal,
  less,
  less_equal,
  is_distinct,
  in,  // the first child among the others
  like,
  and_,
  or_,
  not_,
  is_null,
  concat,
  cases,    // condition, value, condition, value, …, else
  rescale,  // an exact number to a decimal of a larger scale
  to_real,
  call,  // function
};

enum class Aggregate : std::uint8_t { sum, avg, min, max, row_count, count, count_distinct };

enum class Function : std::uint8_t {
  abs,
  round,
  floor,
  ceil,
  trunc,
  sign,
  sqrt,
  exp,
  ln,
  power,
  least,
  greatest,
  coalesce,
  length,
  upper,
  lower,
  trim,
  substring,
  replace,
  starts_with,
  ends_with,
  contains,
  year,
  quarter,
  month,
  day,
  weekday,
  week,
  hour,
  minute,
  second,
  date,
  time,
  add_days,
  add_months,
  add_years,
  days_between,
  years_between,
  today
};

struct Node;
using NodePtr = std::shared_ptr<const Node>;

// The rows that an aggregate goes over: `table`, those for which `where` (may be null) is true.
struct RowSet {
  TableIndex table = 0;
  std::string variable;  // the row's name in the text; "" when it has none
  NodePtr where;
};

struct Node {
  Op op = Op::literal;
  Type type;
  Span span;
  std::vector<NodePtr> children;
  Value literal;
  ColumnRef column;
  MeasureIndex measure = 0;
  Aggregate aggregate = Aggregate::sum;
  Function function = Function::abs;
  RowSet rows;
};

struct Column {
  std::string name;
  Type type;
  bool key = false;
  bool hidden = false;
  std::string header;  // the source's header; "" for a calculated column
  NodePtr expression;  // of a calculated column, else null
  std::optional<std::uint32_t> sorted_by;
  std::string format;
  std::string description;
  std::vector<std::string> used_by;
  Span span;  // the declaration
  Span name_span;

  bool is_calculated() const { return expression != nullptr; }
};

struct Table {
  std::string name;
  bool hidden = false;
  std::string source_pattern;  // a path or pattern of CSV files, relative to the model's file
  char delimiter = ',';
  std::string description;
  std::vector<Column> columns;
  Span span;
  Span source_span;

  std::optional<std::uint32_t> find(std::string_view column) const;
};

// Rows of from.table lead to the row of to.table whose key column `to` equals their `from`.
struct Link {
  ColumnId from;
  ColumnId to;
  std::string role;  // "" for a default link
  Span span;
};

struct Measure {
  std::string name;
  bool hidden = false;
  NodePtr expression;
  std::string format;
  std::string description;
  std::vector<std::string> used_by;
  Span span;
  Span name_span;
};

struct QueryBy {
  std::string name;  // of the result column
  ColumnRef column;
  Span span;
};

struct QueryShow {
  std::string name;
  NodePtr expression;
  std::string format;
  Span span;
};

struct QuerySort {
  std::uint32_t column = 0;  // of the result: by columns first, then shown measures
  bool descending = false;
};

struct Query {
  std::string name;  // "" for a typed query
  std::string title;
  std::optional<TableIndex> from;
  std::vector<QueryBy> by;
  std::vector<QueryShow> show;
  std::vector<NodePtr> where;                      // split at its top-level `and`
  std::vector<std::vector<std::uint32_t>> totals;  // indexes into `by` that each keeps, ascending
  std::vector<QuerySort> sort;
  std::optional<std::uint64_t> limit;
  Span span;
};

struct CheckedModel {
  Sources sources;
  std::string name;
  std::vector<Table> tables;
  std::vector<Link> links;
  std::vector<Measure> measures;
  std::vector<Query> queries;

  std::optional<TableIndex> find_table(std::string_view name) const;
  std::optional<MeasureIndex> find_measure(std::string_view name) const;
  const Query* find_query(std::string_view name) const;
  const Column& column(ColumnId id) const { return tables[id.table].columns[id.column]; }
  std::string column_name(ColumnId id) const { return tables[id.table].name + "." + column(id).name; }

  // Every way from one table to another over links without a role, many side to one, through no table twice. One
  // empty path when the tables are the same.
  std::vector<std::vector<LinkIndex>> paths(TableIndex from, TableIndex to) const;

  // `ref` as seen from rows of `table`; nothing if no path leads there (`ambiguous` if several do).
  struct Rebased {
    std::optional<ColumnRef> ref;
    bool ambiguous = false;
  };
  Rebased rebase(const ColumnRef& ref, TableIndex table) const;
};

// Calls visit(node) for `node` and everything below it, the conditions of aggregates included. Measures that it
// names are not entered.
template <class Visit>
void walk(const NodePtr& node, const Visit& visit) {
  if (!node) return;
  visit(*node);
  for (const NodePtr& child : node->children) walk(child, visit);
  walk(node->rows.where, visit);
}

// The negative of a number: of a literal, a literal.
NodePtr negated(const NodePtr& operand, Span span);

// The node as one line that is the same for equal meanings of equal shape: what plans use to find common parts, and
// stores to know whether a calculated column has changed. Names are spelled out, places left out.
std::string canonical(const CheckedModel& model, const NodePtr& node);

}  // namespace juniper::language
