// One walk over all that a model says. Who uses what, what a change of the text has to edit and what it has to prove
// stand on this alone, so that none of them forgets a place.
//
// A model says what it says in *definitions*: an expression, a set of rows or a list of columns, each with the role that
// it has there. What a definition names are its *mentions*, each with the manner in which it is named.
#pragma once

#include <functional>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "language/checked.h"

namespace juniper::language {

// --- expressions ----------------------------------------------------------------------------------------------------

// Calls visit(node) for `node` and everything below it: conditions, sets of rows and modifiers included. Measures that
// it names are not entered.
template <class Visit>
void walk(const NodePtr& node, const Visit& visit);

template <class Visit>
void walk(const RowSetPtr& rows, const Visit& visit) {
  if (!rows) return;
  walk(rows->input, visit);
  walk(rows->other, visit);
  walk(rows->condition, visit);
  for (const NodePtr& value : rows->values) walk(value, visit);
  for (const NodePtr& result : rows->results) walk(result, visit);
}

template <class Visit>
void walk(const NodePtr& node, const Visit& visit) {
  if (!node) return;
  visit(*node);
  for (const NodePtr& child : node->children) walk(child, visit);
  walk(node->rows, visit);
  for (const Let& let : node->lets) {
    walk(let.value, visit);
    walk(let.rows, visit);
  }
  if (node->modifiers) {
    for (const NodePtr& condition : node->modifiers->where) walk(condition, visit);
  }
}

// The same without entering aggregates, modified measures and `let`, which have slices and rows of their own.
template <class Visit>
void walk_scalars(const NodePtr& node, const Visit& visit) {
  visit(*node);
  if (node->op == Op::aggregate || node->op == Op::modified || node->op == Op::let) return;
  for (const NodePtr& child : node->children) walk_scalars(child, visit);
}

// A copy of the expression with visit(node) in the place of each node for which it gives something. What is replaced
// is not entered.
using Replace = std::function<NodePtr(const NodePtr&)>;
NodePtr replaced(const NodePtr& node, const Replace& replace);
RowSetPtr replaced(const RowSetPtr& rows, const Replace& replace);

// The rows and names that an expression reads and that stand outside of it; not the slice's own row.
std::set<VariableId> outer_variables(const NodePtr& node);

// The column references of an expression.
std::vector<ColumnRef> column_refs(const NodePtr& node);

// The measures that an expression or a set of rows names, directly or through others.
std::set<MeasureIndex> measures_in(const CheckedModel& model, const NodePtr& node);
std::set<MeasureIndex> measures_in(const CheckedModel& model, const RowSetPtr& rows);

// Everything that evaluating an expression reads: columns, the links that it follows, tables whose rows it goes over;
// through the measures that it names. For an expression of a calculated column, `table` is the table of its row.
struct Needs {
  std::set<ColumnId> columns;
  std::set<LinkIndex> links;
  std::set<TableIndex> tables;
};
Needs needs_of(const CheckedModel& model, const NodePtr& node, std::optional<TableIndex> table);
Needs needs_of(const CheckedModel& model, const RowSetPtr& rows);

// --- definitions ----------------------------------------------------------------------------------------------------

enum class Role : std::uint8_t {
  measure,            // its expression
  calculated_column,  // its expression
  calculated_table,   // its rows
  calendar,           // the day, and the columns that name periods
  link,               // the columns of both ends
  value_order,        // the column that another one is sorted by
  row_order,          // the columns that a table's rows are sorted by
  reached_from,       // the tables whose links lead to a table's rows
  table_key,          // several columns that name its rows together
  draft,              // the expression of a measure that a query defines for itself
  key,                // of a query: a column of `by`
  show,               // … an expression of `show`
  where,              // … a condition of `where`
  having,             // … the condition of `having`
  declared,           // `used by`, of a column or a measure
  reader,             // a condition on the rows that a reader sees, or what is hidden from it
  disabled,           // what is left out of the model: each name in it may be that of anything
};

enum class Manner : std::uint8_t {
  read,      // a column's value in a row, a measure's value, a parameter's; a table's rows, one by one
  filter,    // a column of the slice: what is asked is narrowed by it
  group,     // rows or results are told apart by it
  grouping,  // it is asked whether the slice is narrowed to one value of it
  dropped,   // filters on a column, on a table, or that come over a link are dropped
  followed,  // a link, by its role
  listed,    // a column or a table in a list: ends of links, orders, the calendar; anything, where all that is known is
             // that its name stands there
};

struct Mention {
  Manner manner = Manner::read;
  std::optional<ColumnId> column;  // one of these five
  std::optional<TableIndex> table;
  std::optional<LinkIndex> link;
  std::optional<std::uint32_t> parameter;
  std::optional<MeasureIndex> measure;
  Span span;
};

struct Definition {
  Role role = Role::measure;
  const CheckedModel* model = nullptr;  // in which its names stand: that of a query with drafts is the query's own
  std::string name;                     // of what it belongs to: "revenue", "sessions.line_value", a query's name
  Span span;                            // of that
  Span name_span;                       // of that name; the whole, for a query
  Span place;                           // of the expression, the rows or the list itself
  NodePtr expression;                   // one of these three
  RowSetPtr rows;
  std::vector<ColumnId> columns;
  std::vector<TableIndex> tables;    // of `reached from`
  std::vector<Mention> names;        // of what is disabled, or hidden from a reader
  std::optional<ColumnId> column;    // that is calculated, ordered or declared
  std::optional<TableIndex> table;   // whose rows it is about, or whose column
  const Measure* measure = nullptr;  // that is defined or declared
  const Query* query = nullptr;      // that it is a part of
};

// Calls visit for every definition of a model, in the order of Role; those of a query together, in the order in which
// they are evaluated. What they point to lives as long as the model.
using VisitDefinition = std::function<void(const Definition&)>;
void each_definition(const CheckedModel& model, const VisitDefinition& visit);

// The same for one query, which need not be one of the model's own.
void each_definition(const CheckedModel& model, const Query& query, const VisitDefinition& visit);

// Calls visit(node) for everything in a definition's expression or rows.
template <class Visit>
void walk(const Definition& definition, const Visit& visit) {
  walk(definition.expression, visit);
  walk(definition.rows, visit);
}

// The measures that a query defines for itself alone, and whether one of its model's is among them.
std::vector<const Measure*> drafts_of(const Query& query);
bool is_draft(const Query& query, const Measure& measure);

// --- mentions -------------------------------------------------------------------------------------------------------

// Calls visit for everything that a definition names, once for each time that it does. A measure that a query defines for
// itself is one of the query's model, and none of the text's own. A link that is followed because a
// column behind it is read is not named.
using VisitMention = std::function<void(const Mention&)>;
void each_mention(const Definition& definition, const VisitMention& visit);

}  // namespace juniper::language
