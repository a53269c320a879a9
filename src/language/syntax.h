// The tree that the parser makes: what the text says, before any name is looked up.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/field_part.h"
#include "base/source_place.h"
#include "juniper/value.h"
#include "language/disabled.h"
#include "language/source_text.h"

namespace juniper::language::syntax {

struct Name {
  std::string text;
  Span span;
};

// One or more names with points between them: energy_kwh, stations.region, bays.stations.region
struct Path {
  std::vector<Name> parts;
  Span span;
};

struct Expression;
using ExpressionPtr = std::unique_ptr<Expression>;
struct Rows;
using RowsPtr = std::unique_ptr<Rows>;

// What `across` drops: columns, tables and roles; or everything, but for these.
struct Across {
  Span span;
  bool everything = false;
  std::vector<Path> items;
};

struct SortKey {
  ExpressionPtr expression;
  bool descending = false;
};

struct NamedExpression {
  std::optional<Name> name;
  ExpressionPtr expression;
};

enum class RowsForm : std::uint8_t {
  named,      // name: a table, `rows`, or a name of `let`
  linked,     // input `of` name
  routed,     // input `via` name
  across,     // input, across
  filtered,   // input `where` condition
  extended,   // input `with` items
  sorted,     // input `sorted by` keys
  distinct,   // items (paths) `for` input, which may be missing
  days,       // `every day`: of the years that items are, or of what the columns that they are hold
  grouped,    // `group` input `by` items `with` results
  top,        // `top` count input `by` keys
  unite,      // input, other
  except,     // input, other
  intersect,  // input, other
};

// A set of rows. Which fields a form uses stands beside it above.
struct Rows {
  RowsForm form = RowsForm::named;
  Span span;
  Name name;
  Across across;
  ExpressionPtr condition;
  std::vector<NamedExpression> items;
  std::vector<NamedExpression> results;
  std::vector<SortKey> keys;
  std::uint64_t count = 0;
  RowsPtr input;
  RowsPtr other;
  std::uint32_t height = 1;
};

enum class During : std::uint8_t { to_date, whole, previous, next, shift, trailing };

struct DuringClause {
  Span span;
  During kind = During::to_date;
  Name unit;
  std::int64_t count = 1;  // of shift and trailing
};

// What may follow a measure's name or a bracket, in this order.
struct Modifiers {
  std::optional<Name> of;  // a row's name, or `slice`
  std::optional<Name> via;
  std::optional<Name> through;  // a table
  std::optional<Across> across;
  std::optional<DuringClause> during;
  ExpressionPtr where;
};

// One name of `let`: an expression, a set of rows, or both where the text reads as either.
struct LetName {
  Name name;
  ExpressionPtr expression;
  RowsPtr rows;
};

enum class Form : std::uint8_t {
  literal,      // value, type; a null literal has a null value
  path,         // path
  unary,        // word: "-" or "not"; children: operand
  binary,       // word: the operator; children: left, right
  is_null,      // children: operand; negated
  is_distinct,  // children: left, right; `is not distinct from` is negated
  in,           // children: operand, then the members; negated
  between,      // children: operand, low, high; negated
  cases,        // children: condition, value, condition, value, …, else (may be null); `if` too
  call,         // word: the function; children: arguments
  aggregate,    // word: sum, avg, …; children: the expressions (none for count(ROWS)); rows; distinct, keys, …
  modified,     // children: operand; modifiers
  let,          // lets; children: body
};

// One node of an expression. Which fields a form uses stands beside it above.
struct Expression {
  Form form;
  Span span;
  Span word_span;  // of the operator's or function's word
  std::string word;
  Value value;
  Type type;
  bool negated = false;
  bool distinct = false;
  bool descending = false;   // of rank
  bool dense = false;        // of rank
  bool bracketed = false;    // stands in brackets of its own
  std::uint32_t height = 1;  // of the tree below it; bounded, so that walks may recurse
  Path path;
  RowsPtr rows;
  std::optional<Name> variable;  // the row's name: `for s in sessions`
  std::vector<SortKey> keys;     // of first and last
  std::unique_ptr<Modifiers> modifiers;
  std::vector<LetName> lets;
  std::vector<ExpressionPtr> children;
};

struct TypeName {
  Type type;
  Span span;
};

// What may stand behind a column or a measure.
struct Attributes {
  std::optional<std::string> format;
  Span format_span;
  std::optional<Name> sorted_by;
  std::vector<std::string> used_by;
  std::string description;
};

struct Column {
  Span span;  // the whole declaration
  Name name;
  bool key = false;
  bool hidden = false;
  std::optional<TypeName> type;       // a column of the source
  std::optional<std::string> header;  // its header there, when it differs from the name
  base::FieldPart part = base::FieldPart::whole;
  Span source_span;          // type and header
  ExpressionPtr expression;  // a calculated column
  Attributes attributes;
};

// key (site, lane)
struct TableKey {
  Span span;
  std::vector<Name> columns;
};

struct Table {
  Span span;
  Name name;
  bool hidden = false;
  base::SourcePlace source;  // relative to the file that names it
  Span source_span;
  std::vector<Name> reached_from;  // tables
  std::vector<Name> sorted_by;     // columns
  Span rows_span;                  // of what stands behind the source: where that would be written, if it is empty
  RowsPtr rows;                    // of a calculated table
  bool is_every_day = false;       // a calendar that the text asks for (language/every_day.h)
  std::string description;
  std::vector<Column> columns;
  std::vector<TableKey> keys;  // of several columns
};

// table.column, or table.(column, column, …)
struct LinkEnd {
  Span span;
  Name table;
  std::vector<Name> columns;
};

struct Link {
  Span span;
  LinkEnd from;
  LinkEnd to;
  std::optional<Name> role;
};

struct Parameter {
  Span span;
  Name name;
  ExpressionPtr value;
  std::string description;
};

// function margin(x, rate) = …
struct Function {
  Span span;
  Name name;
  std::vector<Name> arguments;
  std::shared_ptr<const Expression> body;
  std::string description;
};

struct Calendar {
  Span span;
  LinkEnd day;  // one column
  std::vector<Name> periods;
};

struct Include {
  Span span;
  std::string file;
};

struct Measure {
  Span span;
  Name name;
  bool hidden = false;
  ExpressionPtr expression;
  Attributes attributes;
};

struct ByItem {
  ExpressionPtr expression;  // often a path
  std::optional<Name> alias;
};

struct ShowItem {
  Span span;
  std::optional<Name> alias;  // `alias = expression` or `expression as alias`
  ExpressionPtr expression;
};

struct TotalItem {
  Span span;
  std::vector<Path> kept;  // empty: the grand total
};

struct SortItem {
  Path path;
  bool descending = false;
};

struct Query {
  Span span;  // of the body's clauses
  std::optional<Name> name;
  std::string title;
  std::int64_t budget_nanoseconds = 0;  // `within 50 ms`; 0 for none
  std::optional<Name> from;
  std::vector<ByItem> by;
  std::vector<ShowItem> show;
  ExpressionPtr where;
  ExpressionPtr having;
  std::vector<TotalItem> totals;
  std::vector<SortItem> sort;
  std::optional<std::uint64_t> limit;
  bool keep_empty = false;
  std::vector<Measure> drafts;
};

// reader coast "Coast team" { stations where …  hide sessions.card_id, measure cost_share }
struct ReaderRows {
  Span span;
  Name table;
  ExpressionPtr condition;
};
struct HiddenThing {
  Span span;
  std::optional<Name> table;  // of a column; of a measure none
  Name name;
};
struct Reader {
  Span span;
  Name name;
  std::string description;
  std::vector<ReaderRows> rows;
  std::vector<HiddenThing> hidden;
};

struct Model {
  std::optional<std::string> name;
  std::vector<Table> tables;
  std::vector<Link> links;
  std::vector<Parameter> parameters;
  std::vector<Function> functions;
  std::vector<Calendar> calendars;
  std::vector<Include> includes;
  std::vector<Measure> measures;
  std::vector<Query> queries;
  std::vector<Reader> readers;
  std::vector<Disabled> unread;  // that the parser did not understand, and of which it knows the name
};

}  // namespace juniper::language::syntax
