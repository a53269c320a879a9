// The checker's part for expressions: names in their scope, types, conversions.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "language/checked.h"
#include "language/syntax.h"

namespace juniper::language {

// What a name may mean where an expression stands.
enum class ScopeKind : std::uint8_t {
  row,      // columns of the row's table, and of tables that links lead to
  measure,  // measures and aggregates
  slice,    // columns of any table, written with it: a query's `where`
};

struct Scope {
  ScopeKind kind = ScopeKind::measure;
  TableIndex table = 0;        // of the row
  std::string variable;        // the row's name; "row" and "this" are always understood as far as they apply
  bool in_calculated = false;  // the row, or the row around the aggregate, is a calculated column's `this`
  bool in_aggregate = false;
};

// What the expression checker needs of the model around it: types of columns and measures that may not have been
// checked yet. Each gives nothing when the definition has errors of its own, which have been reported.
struct Definitions {
  const CheckedModel& model;
  std::function<std::optional<Type>(ColumnId, Span use)> column_type;
  std::function<std::optional<Type>(MeasureIndex, Span use)> measure_type;
};

// Checks one expression. Null after an error, which has been appended to `diagnostics`.
NodePtr check_expression(const Definitions& definitions, const syntax::Expression& expression, const Scope& scope,
                         Diagnostics& diagnostics);

// The same for an expression that must be a condition.
NodePtr check_condition(const Definitions& definitions, const syntax::Expression& expression, const Scope& scope,
                        Diagnostics& diagnostics);

// The column that a path names in a scope with a row or a slice; nothing after an error.
std::optional<ColumnRef> check_column_path(const Definitions& definitions, const syntax::Path& path, const Scope& scope,
                                           Diagnostics& diagnostics);

}  // namespace juniper::language
