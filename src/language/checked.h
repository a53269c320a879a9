// The checked tree: every name resolved, every expression typed, conversions written out. Immutable once made, so
// that plans, refactorings and threads may share its nodes.
#pragma once

#include <algorithm>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/field_part.h"
#include "base/source_place.h"
#include "base/unit.h"
#include "juniper/value.h"
#include "language/disabled.h"
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

// A row that an expression may read, or a name of `let`; unique within a checked model. 0 is the row of the one table
// over which a condition or expression is evaluated: the slice's own columns.
using VariableId = std::uint32_t;
inline constexpr VariableId slice_row = 0;

enum class Op : std::uint8_t {
  literal,    // literal; parameter, when it is the value of one
  column,     // variable, column
  field,      // variable, field: what a row of a derived set holds beside a table's columns
  name,       // variable: a scalar of `let`
  measure,    // measure
  modified,   // modifiers; children: the measure or expression
  let,        // lets; children: the body
  aggregate,  // aggregate, rows; children: see Aggregate
  grouping,   // column or key: 0 where the slice is narrowed to one value of it by a key, else 1
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

// Children: the expression over the rows; what more there is stands beside.
enum class Aggregate : std::uint8_t {
  sum,
  avg,
  min,
  max,
  row_count,  // no children
  count,
  count_distinct,
  product,
  median,
  quantile,  // literal: the fraction
  stddev,
  variance,
  stddev_pop,
  variance_pop,
  any,
  every,
  first,   // then the keys; directions
  last,    // then the keys; directions
  list,    // literal: the separator
  rank,    // a value evaluated outside of the rows, then those over the rows; directions[0]; dense
  exists,  // no children
  only,    // the value of a column when it is the only one, null counted
};

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
  datetime,
  add_days,
  add_months,
  add_years,
  days_between,
  months_between,
  years_between,
  start_of,
  end_of,
  today,
  text,           // any value; of a number or a moment, also a literal pattern
  integer_from,   // a text
  decimal_from,   // a text, and literal digits
  real_from,      // a text
  date_from,      // a text, and a literal pattern or none
  datetime_from,  // the same
};

// Units of the calendar, for start_of, end_of and `during`.
using base::Unit;

struct Node;
using NodePtr = std::shared_ptr<const Node>;

// What `across` drops. With `everything`, the items are what is kept.
struct Across {
  bool everything = false;
  std::vector<ColumnRef> columns;  // seen from their own table, or over a role
  std::vector<TableIndex> tables;
  std::vector<LinkIndex> roles;
  Span span;
};

enum class Period : std::uint8_t { to_date, whole, previous, next, shift, trailing };

struct During {
  Period period = Period::to_date;
  Unit unit = Unit::day;
  std::int64_t count = 1;
  Span span;
};

// A bridge: a table by whose rows filters reach others that do not lead to it.
struct Through {
  TableIndex table = 0;
  Span span;  // its name
};

// What changes the slice in which a measure is evaluated, in the order of the members.
struct Modifiers {
  std::optional<VariableId> of;
  bool of_slice = false;  // `of slice`: the slice outside of the rows around it, which is the one at hand
  std::optional<LinkIndex> via;
  std::optional<Through> through;
  std::optional<Across> across;
  std::optional<During> during;
  std::vector<NodePtr> where;  // split at its top-level `and`; columns of the slice are those of slice_row
};

struct RowSet;
using RowSetPtr = std::shared_ptr<const RowSet>;

// What a row of a derived set holds beside a table's columns.
struct Field {
  std::string name;
  Type type;
  // What it equals in all rows that the row stands for, over columns of the slice; null when there is no such thing.
  NodePtr key;
  bool identifies = false;         // a key of distinct or group, rather than a value beside
  std::optional<ColumnId> column;  // whose value it is, for its format and sort order
  Span span;
};

enum class RowsKind : std::uint8_t {
  table,     // table; of, via, across: the rows that the slice allows
  members,   // group: the rows of the group at hand; the variable is that of the group's input
  named,     // name: a set of rows of `let`
  filtered,  // input; condition
  extended,  // input; values, for the last fields
  sorted,    // input; values, directions
  days,      // values: the first and the last of all days, each of which is a row
  distinct,  // input; values, one for each field
  grouped,   // input; values, one for each of the first fields; results, for those that follow
  top,       // input; values (one), directions (one), count
  unite,     // input, other
  except,
  intersect,
};

// A set of rows. All sets that pass rows through (filtered, extended, sorted, top) have their input's variable.
struct RowSet {
  RowsKind kind = RowsKind::table;
  VariableId variable = slice_row;  // its row, in the expressions of later steps and of the loop over it
  std::string row_name;             // as the text names the row; "" when it doesn't
  std::optional<TableIndex> table;  // whose rows they are, if they are a table's
  std::vector<Field> fields;
  Span span;
  RowSetPtr input;
  RowSetPtr other;
  std::optional<VariableId> of;
  std::optional<LinkIndex> via;
  std::optional<Across> across;
  VariableId name = 0;
  VariableId group = 0;  // of `members`: the group's row
  NodePtr condition;
  std::vector<NodePtr> values;
  std::vector<NodePtr> results;
  std::vector<bool> descending;
  std::uint64_t count = 0;
  // What narrowing a slice to one of these rows adds beside the row itself or its keys: the conditions of the rows that
  // a group was made of. When that can't be said in columns, `not_narrowing` says why.
  std::vector<NodePtr> made_by;
  std::string not_narrowing;
};

struct Let {
  VariableId name = 0;
  NodePtr value;   // a scalar
  RowSetPtr rows;  // or a set of rows
  std::string text;
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
  VariableId variable = slice_row;
  std::uint32_t field = 0;
  std::optional<std::uint32_t> parameter;
  RowSetPtr rows;
  std::vector<bool> descending;
  bool dense = false;
  std::shared_ptr<const Modifiers> modifiers;
  std::vector<Let> lets;
  NodePtr key;  // of grouping, where the query's key is an expression
};

struct Column {
  std::string name;
  Type type;
  bool key = false;
  bool hidden = false;
  std::string header;                             // the source's header; "" for a calculated column
  base::FieldPart part = base::FieldPart::whole;  // of the fields under it
  Span source_span;                               // type and header in the text
  NodePtr expression;                             // of a calculated column, else null
  NodePtr from_row;  // of a column of a calculated table: what it takes of a row of the table's set
  std::optional<std::uint32_t> sorted_by;
  std::string format;
  std::string description;
  std::vector<std::string> used_by;
  Span span;  // the declaration
  Span name_span;

  bool is_calculated() const { return expression != nullptr; }
};

// Several columns that name a row together.
struct TableKey {
  std::vector<std::uint32_t> columns;
  Span span;
};

struct Table {
  std::string name;
  bool hidden = false;
  base::SourcePlace source;              // relative to the model's file
  std::vector<TableIndex> reached_from;  // its rows are those that a link from one of these leads to; all if empty
  std::vector<std::uint32_t> sorted_by;  // its rows stand in the order of these columns; of the files if empty
  std::string description;
  RowSetPtr rows;              // of a calculated table, else null
  VariableId row = slice_row;  // `this` in the expressions of its calculated columns
  std::vector<Column> columns;
  std::vector<TableKey> keys;  // of several columns
  Span span;
  Span name_span;
  Span source_span;
  Span rows_span;  // `reached from` and `sorted by`, or the place behind the source where they would stand

  // Whether its rows stay on another engine, of which they are asked.
  bool is_live() const { return source.live; }
  std::optional<std::uint32_t> find(std::string_view column) const;
  void add(Column column);

 private:
  std::map<std::string, std::uint32_t, std::less<>> numbers_;  // of columns, by name; of the first one of a name
};

struct LinkEnd {
  TableIndex table = 0;
  std::vector<std::uint32_t> columns;

  bool operator==(const LinkEnd&) const = default;
  bool reads(ColumnId id) const {
    return id.table == table && std::find(columns.begin(), columns.end(), id.column) != columns.end();
  }
};

// Rows of from.table lead to the row of to.table whose columns `to` equal their `from`.
struct Link {
  LinkEnd from;
  LinkEnd to;
  std::string role;  // "" for a default link
  Span span;
  std::string broken;  // why nothing can cross it; "" if it can be resolved
};

struct Parameter {
  std::string name;
  Type type;
  Value value;
  std::string description;
  Span span;
};

namespace syntax {
struct Expression;
}

// A text with arguments. Checked trees hold what it stands for at each use.
struct ModelFunction {
  std::string name;
  std::vector<std::string> arguments;
  std::shared_ptr<const syntax::Expression> body;  // null where it uses itself, which is told
  std::string description;
  Span span;

  // Whether a place in the text lies within it.
  bool holds(const Span& at) const { return at.file == span.file && at.begin >= span.begin && at.end <= span.end; }
};

// The table of days: what `during` moves in.
struct Calendar {
  ColumnId day;
  std::vector<std::uint32_t> periods;  // columns of its table that name a period
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

struct CheckedModel;

// A table, and what its rows are seen by: the roles of links that are followed, and the bridges, in the order of their
// numbers.
struct SeenTable {
  TableIndex table = 0;
  std::vector<LinkIndex> roles;
  std::vector<TableIndex> bridges;

  auto operator<=>(const SeenTable&) const = default;
};

// What groups the rows: a column, or an expression over columns.
struct QueryBy {
  std::string name;  // of the result column
  NodePtr expression;
  Span span;
  VariableId variable = 0;  // of Op::name in `having`: the key's value

  bool is_column() const { return expression->op == Op::column; }
  const ColumnRef& column() const { return expression->column; }
  Type type() const { return expression->type; }
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
  std::int64_t budget_nanoseconds = 0;  // that it may take; 0 where nothing is said
  std::optional<TableIndex> from;
  std::vector<QueryBy> by;
  std::vector<QueryShow> show;
  std::vector<NodePtr> where;                      // split at its top-level `and`
  std::vector<std::vector<std::uint32_t>> totals;  // indexes into `by` that each keeps, ascending
  NodePtr having;                                  // over the result's columns: Op::field, by index
  std::vector<QuerySort> sort;
  std::optional<std::uint64_t> limit;
  bool keep_empty = false;
  std::vector<SeenTable> sources;  // where the rows come from: what leads to the `by` columns
  // With drafts of its own, the model in which they stand; its nodes refer to that one.
  std::shared_ptr<const CheckedModel> variant;
  Span span;
  // Of one that is asked from outside and the text does not hold: its number among ReadOptions::captured. Its text stands
  // behind those of the model, and nothing edits it.
  std::optional<std::uint32_t> captured;
};

// A captured query that the model does not understand, and why.
struct NotUnderstood {
  std::uint32_t captured = 0;
  Diagnostic problem;
};

// Who sees some of the rows, and may not ask for everything.
struct ReaderRows {
  TableIndex table = 0;
  NodePtr condition;  // over a row of the table, named by Table::row
  Span span;
};
struct Reader {
  std::string name;
  std::string description;
  std::vector<ReaderRows> rows;
  std::vector<ColumnId> hidden_columns;
  std::set<std::string> hidden_measures;
  Span span;
};

struct CheckedModel {
  Sources sources;
  std::string name;
  std::vector<Table> tables;
  std::vector<Link> links;
  std::vector<Parameter> parameters;
  std::vector<ModelFunction> functions;
  std::optional<Calendar> calendar;
  std::vector<Measure> measures;
  std::vector<Query> queries;
  std::vector<Query> captured;  // that are asked from outside, but for those that name a saved one
  std::vector<NotUnderstood> not_understood;
  std::vector<Disabled> disabled;
  std::vector<Reader> readers;
  std::optional<std::uint32_t> acting;   // the reader as whom the model is asked
  std::vector<Disabled> not_for_reader;  // its queries that name what is hidden from that reader
  std::uint32_t files = 0;               // of `sources`, those that are the model's own
  VariableId variables = 1;              // the first id that is not taken

  std::optional<TableIndex> find_table(std::string_view name) const;
  std::optional<MeasureIndex> find_measure(std::string_view name) const;
  const ModelFunction* find_function(std::string_view name) const;
  const Query* find_query(std::string_view name) const;
  const Reader* acting_reader() const { return acting ? &readers[*acting] : nullptr; }
  // Of a calculated column, with its table.
  const Disabled* find_disabled(DefinitionKind kind, std::string_view name, std::string_view table = "") const;
  const Column& column(ColumnId id) const { return tables[id.table].columns[id.column]; }
  std::string column_name(ColumnId id) const { return tables[id.table].name + "." + column(id).name; }
  // A link as it is written: "sessions.end_day -> days.day as end_date".
  std::string link_name(const Link& link) const;

  // Every way from one table to another, many side to one, through no table twice: over links without a role, and over
  // those of `roles`, each of which replaces the link without a role between its two tables. One empty path when the
  // tables are the same.
  using Roles = std::vector<LinkIndex>;
  std::vector<std::vector<LinkIndex>> paths(TableIndex from, TableIndex to, const Roles& roles = {}) const;

  // `ref` as seen from rows of `table`; nothing if no path leads there (`ambiguous` if several do).
  struct Rebased {
    std::optional<ColumnRef> ref;
    bool ambiguous = false;
  };
  Rebased rebase(const ColumnRef& ref, TableIndex table, const Roles& roles = {}) const;
};

// The table whose rows a set is made from, through all its steps; of a union, that of its first part.
TableIndex base_table(const RowSetPtr& rows);

// Splits a condition at its top-level `and`.
void split_conjunction(const NodePtr& condition, std::vector<NodePtr>& parts);

// The negative of a number: of a literal, a literal.
NodePtr negated(const NodePtr& operand, Span span);

// The node as one line that is the same for equal meanings of equal shape: what plans use to find common parts, and
// stores to know whether a calculated column has changed. Names are spelled out, places left out. Rows that the
// expression reads from outside are told apart by their number, or, so that models can be compared, by the order in
// which they first stand there.
enum class OuterRows : std::uint8_t { by_number, by_order };
std::string canonical(const CheckedModel& model, const NodePtr& node, OuterRows outer = OuterRows::by_number);
std::string canonical(const CheckedModel& model, const RowSetPtr& rows, OuterRows outer = OuterRows::by_number);

}  // namespace juniper::language
