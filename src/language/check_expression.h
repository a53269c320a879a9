// The checker's part for expressions: names in their scope, types, conversions, sets of rows, slices.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "language/checked.h"
#include "language/syntax.h"

namespace juniper::language {

// What a name may mean where an expression stands.
enum class ScopeKind : std::uint8_t {
  row,      // columns of the rows in scope, and of tables that links lead to
  measure,  // measures and aggregates
  slice,    // columns of any table, written with it: conditions on a slice
};

// A row that expressions may read.
struct RowInScope {
  VariableId variable = slice_row;
  std::string name;  // "" for a row without a name, which is called `row`
  std::optional<TableIndex> table;
  RowSetPtr set;  // what it is a row of; null for a calculated column's `this`
  CheckedModel::Roles roles;
};

// A name of `let`: a scalar of `type`, or a set of rows.
struct NameInScope {
  std::string name;
  VariableId variable = 0;
  Type type;
  RowSetPtr rows;
};

struct Scope {
  ScopeKind kind = ScopeKind::measure;
  bool in_row = false;           // the innermost thing around is a row: a bare measure would be mistaken for the row's
  bool aggregates = true;        // false where only columns may stand: a query's `where`
  std::vector<RowInScope> rows;  // the outermost first
  std::vector<NameInScope> names;
  RowSetPtr members;     // in the `with` of a group: its own rows
  VariableId group = 0;  // and the group's row
  // In `having`: what the query shows, by name. There and in `where`: its keys.
  const std::vector<QueryShow>* shown = nullptr;
  const std::vector<QueryBy>* keys = nullptr;
  // Within the texts of functions: how many parts these have come to, and how many levels deep this may stand.
  std::shared_ptr<std::size_t> expanded = nullptr;
  std::uint32_t levels = 0;
  const std::vector<QueryBy>* grouping = nullptr;  // those that `grouping` may name
};

// What the expression checker needs of the model around it: types of columns and measures that may not have been
// checked yet. Each gives nothing when the definition has errors of its own, which have been reported.
struct Definitions {
  const CheckedModel& model;
  std::function<std::optional<Type>(ColumnId, Span use)> column_type;
  std::function<std::optional<Type>(MeasureIndex, Span use)> measure_type;
  std::function<VariableId()> fresh;  // an id that no variable of the model has
};

// The scope of a calculated column of `table`.
Scope calculated_scope(TableIndex table, VariableId variable);

// Checks one expression. Null after an error, which has been appended to `diagnostics`.
NodePtr check_expression(const Definitions& definitions, const syntax::Expression& expression, const Scope& scope,
                         Diagnostics& diagnostics);

// The same for an expression that must be a condition.
NodePtr check_condition(const Definitions& definitions, const syntax::Expression& expression, const Scope& scope,
                        Diagnostics& diagnostics);

// Checks a set of rows: a calculated table's.
RowSetPtr check_rows(const Definitions& definitions, const syntax::Rows& rows, const Scope& scope,
                     Diagnostics& diagnostics);

// The column that a path names in a slice; nothing after an error.
std::optional<ColumnRef> check_column_path(const Definitions& definitions, const syntax::Path& path, const Scope& scope,
                                           Diagnostics& diagnostics);

}  // namespace juniper::language
