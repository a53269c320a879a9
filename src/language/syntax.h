// The tree that the parser makes: what the text says, before any name is looked up.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/value.h"
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

// ROWS of an aggregate: `name in table where condition`
struct Rows {
  Name table;
  std::optional<Name> variable;
  ExpressionPtr where;  // may be null
  Span span;
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
  aggregate,    // word: sum, avg, …; children: the expression (none for count(ROWS)); rows; distinct
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
  std::uint32_t height = 1;  // of the tree below it; bounded, so that walks may recurse
  Path path;
  std::unique_ptr<Rows> rows;
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
  ExpressionPtr expression;           // a calculated column
  Attributes attributes;
};

struct Table {
  Span span;
  Name name;
  bool hidden = false;
  std::string source_kind;  // "csv"
  std::string source;       // a path or pattern, relative to the file that names it
  Span source_span;
  std::optional<std::string> delimiter;
  std::string description;
  std::vector<Column> columns;
};

struct Link {
  Span span;
  Path from;  // table.column
  Path to;
  std::optional<Name> role;
};

struct Measure {
  Span span;
  Name name;
  bool hidden = false;
  ExpressionPtr expression;
  Attributes attributes;
};

struct ByItem {
  Path path;
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
  std::optional<Name> from;
  std::vector<ByItem> by;
  std::vector<ShowItem> show;
  ExpressionPtr where;
  std::vector<TotalItem> totals;
  std::vector<SortItem> sort;
  std::optional<std::uint64_t> limit;
};

struct Model {
  std::optional<std::string> name;
  std::vector<Table> tables;
  std::vector<Link> links;
  std::vector<Measure> measures;
  std::vector<Query> queries;
};

}  // namespace juniper::language::syntax
