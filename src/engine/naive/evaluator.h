// The naive evaluator: what an expression, a slice and a set of rows are, each worked out as the language says it.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "engine/naive/data.h"
#include "engine/naive/scalar.h"
#include "language/slices.h"

namespace juniper::engine::naive {

using namespace language;

// Thrown where a question has no answer; caught in naive/query.cpp.
struct NoAnswer {
  Diagnostics diagnostics;
};

// Thrown where nobody can say whether a row belongs to a set, as its condition overflows: the aggregate over the set
// overflows, too.
struct RowsOverflow {};

// A predicate with what it compares with.
struct Held {
  Predicate predicate;                            // a filter's expression reads nothing but the slice's columns
  Value key;                                      // of a key
  std::uint64_t row = 0;                          // of a row
  std::set<std::int64_t> days;                    // of days
  std::shared_ptr<const Diagnostics> doubt = {};  // why nobody can say which days
  // Where a value that it compares with overflows: there is no answer once a row's own depends on it.
  std::optional<Span> overflow;
};

struct HeldSlice {
  std::vector<Held> predicates;
  Roles roles;
  std::vector<TableIndex> bridges;
};

// A row of a set: of a table, with fields, or fields alone.
struct Row {
  std::optional<TableIndex> table;
  std::uint64_t row = 0;
  std::vector<Cell> fields;
  RowSetPtr set;  // null for a calculated column's row
  HeldSlice slice;
  std::vector<Row> members;  // of a group
  // Why nobody can say whether the slice allows it: there is no answer, unless something else leaves it out.
  std::shared_ptr<const Diagnostics> doubt = {};
};

struct Scope;

// What a name of `let` stands for: computed when it is first asked for, as what nobody asks for may have no answer.
struct NamedValue {
  NodePtr expression;
  std::shared_ptr<const Scope> around;
  std::optional<Cell> value = {};
};
struct NamedRows {
  RowSetPtr set;
  std::shared_ptr<const Scope> around;
  bool is_known = false;
  std::optional<std::vector<Row>> rows = {};  // nothing where they overflow
};

// What the names around an expression stand for.
struct Scope {
  HeldSlice slice;
  // What measures have given in this slice; null where it is another one than they were asked in. Each is worked out
  // once: two that name a third one twice would else ask it four times, and so on.
  std::shared_ptr<std::map<MeasureIndex, Cell>> measures = {};
  std::map<VariableId, Row> rows;
  std::map<VariableId, std::shared_ptr<NamedValue>> values;
  std::map<VariableId, std::shared_ptr<NamedRows>> sets;
};

// The predicate that a condition is.
inline Held held_filter(const NodePtr& condition) {
  Held held;
  held.predicate.expression = condition;
  held.predicate.span = condition->span;
  return held;
}

// Evaluates over one source of data. Throws NoAnswer, and what calls off.
class Naive {
 public:
  Naive(const CheckedModel& model, Data& data, Setting setting) : model_(model), data_(data), setting_(setting) {}

  // --- expressions --------------------------------------------------------------------------------------------------
  Cell value(const NodePtr& node, const Scope& scope);

  // --- slices -------------------------------------------------------------------------------------------------------

  // The rows of a table that a slice allows, in the order of their keys.
  std::vector<Row> allowed(TableIndex table, const HeldSlice& slice);
  // The rows of a bridge that the slice allows, of those predicates that reach a table's rows over it, and where each of
  // them leads: to the row where both meet.
  struct BridgeRow {
    Row row;
    std::uint64_t met = 0;
  };
  std::vector<BridgeRow> bridge_rows(TableIndex table, TableIndex bridge, const HeldSlice& slice);
  // The row that a path leads to; nothing where it ends before.
  std::optional<std::uint64_t> row_at(const Row& row, const std::vector<LinkIndex>& path);

  // The values of a table's columns as seen from one of its rows.
  Cell read(const Row& row, const ColumnRef& ref, const Roles& roles);
  Scope row_scope(TableIndex table, std::uint64_t row, VariableId variable);
  // An expression over the slice's columns as one over those of a table's rows, and such a row as what it is read from.
  NodePtr seen_from(const NodePtr& node, TableIndex table, const Roles& roles) const;
  static Scope scope_of(const Row& row);

  // --- calculated tables --------------------------------------------------------------------------------------------

  // The rows of a set that nothing is around, each with the scope in which it is at hand.
  std::vector<Scope> row_scopes(const RowSetPtr& set);

 private:
  static bool is_true(const Cell& cell) { return !cell.overflow && !cell.value.is_null() && cell.value.exact() != 0; }
  // The rows that a slice allows, and those of which that is in doubt; `settle` is for who has to know.
  std::vector<Row> candidates(TableIndex table, const HeldSlice& slice);
  static void settle(const std::vector<Row>& rows);
  // Whether a predicate that reaches the row's table holds, with its expression as it is read from there; where that
  // overflows, the row is in doubt.
  bool may_hold(const Held& held, const NodePtr& expression, Row& row, const Roles& roles);
  // Asks now and then whether to go on.
  void count_step() {
    if (++steps_ % 8192 == 0) data_.check();
  }

  // Gives a predicate a condition with everything but the slice's own columns replaced by its value here.
  void close(Held& held, const NodePtr& condition, const Scope& scope);
  HeldSlice narrowed(const Row& row, const Scope& scope);
  void drop(HeldSlice& slice, const Across& across) const;
  HeldSlice modified(const Modifiers& m, const Scope& scope);
  void move(HeldSlice& slice, const During& during);
  bool is_grouped(const Node& node, const HeldSlice& slice) const;

  // --- rows ---------------------------------------------------------------------------------------------------------
  static Scope inside(const Scope& scope, const Row& row);

  // By a table's key and then its order, or by all fields; nulls last.
  bool in_order(const Row& a, const Row& b);
  static bool same(const Row& a, const Row& b);

  // Negative, zero or positive; nulls last whatever the direction.
  static int directed(const Value& a, const Value& b, bool descending);
  std::vector<Row> rows(const RowSetPtr& set, const Scope& scope);
  std::vector<Row> unsettled_rows(const RowSetPtr& set, const Scope& scope);
  std::vector<Row> rows_by_kind(const RowSetPtr& set, const Scope& scope);

  // The keys by which rows are sorted, beside each row.
  std::vector<std::vector<Value>> sort(std::vector<Row>& input, const RowSet& set, const Scope& scope);
  // What rows are ordered or grouped by; there is no answer where it overflows.
  Value key_of(const NodePtr& key, const Scope& scope);
  std::vector<Row> top(std::vector<Row> input, const RowSet& set, const Scope& scope);
  std::vector<Row> groups(const std::vector<Row>& input, const RowSetPtr& set, const Scope& scope);
  std::vector<Row> combined(std::vector<Row> a, std::vector<Row> b, RowsKind kind);

  // --- aggregates ---------------------------------------------------------------------------------------------------
  Cell aggregate(const Node& node, const Scope& scope);
  Cell aggregate_rows(const Node& node, const Scope& scope);

  // first and last: among the rows whose keys are all values, by the keys, and by the order of the rows.
  Cell edge(const Node& node, const std::vector<Row>& all, const Scope& scope);
  Cell rank(const Node& node, const Scope& scope);

  const CheckedModel& model_;
  Data& data_;
  Setting setting_;
  std::uint64_t steps_ = 0;
};

}  // namespace juniper::engine::naive
