// Slices, as far as the text alone tells: which predicates hold where, what they reach, what `across` drops.
//
// A slice is a set of predicates, the roles by which links are followed, and the bridges over which predicates reach
// tables that do not lead to what they are about. What a predicate compares with may differ
// from row to row of a loop or a result; which columns it is about never does.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::language {

enum class PredicateKind : std::uint8_t {
  filter,  // expression is true
  key,     // expression equals a value, nulls being equal
  row,     // the row of `table` is a given one
  days,    // the calendar's row is one of a given set
};

struct Predicate {
  PredicateKind kind = PredicateKind::filter;
  NodePtr expression;  // of filter and key; its columns of the slice are those of slice_row
  TableIndex table = 0;
  Span span;
  std::size_t id = 0;  // which of its slice's predicates it was when it was first set
};

using Roles = CheckedModel::Roles;

// The columns of the slice that a predicate is about. Empty for `row`, which is about its table.
std::vector<ColumnRef> mentions(const CheckedModel& model, const Predicate& predicate);

// Whether rows of `table` can tell if the predicate holds: all that it mentions can be read from there, nothing, or
// only a part; or several paths lead there.
enum class Reach : std::uint8_t { all, none, part, ambiguous };
Reach reach(const CheckedModel& model, const Predicate& predicate, TableIndex table, const Roles& roles);

// Where the rows of a table and those of a bridge meet: the nearest tables to which both lead. None where both lead to no
// table, or where the table's rows lead to the bridge themselves.
struct Meeting {
  std::vector<TableIndex> tables;
  // How both lead there, where there is one such table and one way from each.
  bool is_plain = false;
  std::vector<LinkIndex> from_table;
  std::vector<LinkIndex> from_bridge;
};
Meeting meeting(const CheckedModel& model, TableIndex table, TableIndex bridge, const Roles& roles);

// The same for a predicate that reaches the rows of `table` by way of a bridge: it is the bridge's rows that tell. One that
// the table's own rows tell whole does not come over a bridge.
Reach reach_through(const CheckedModel& model, const Predicate& predicate, TableIndex table, TableIndex bridge,
                    const Roles& roles);

// The one bridge over which a predicate reaches rows of a table; nothing where these tell themselves, nobody does, or
// several do.
std::optional<TableIndex> bridge_of(const CheckedModel& model, const Predicate& predicate, const SeenTable& seen);

// Whether modifiers are `through` and nothing else.
bool is_bridge_alone(const Modifiers& modifiers);

// Bridges with one more.
std::vector<TableIndex> with_bridge(std::vector<TableIndex> bridges, TableIndex bridge);

// Whether `across` drops the predicate: all of it, nothing, or only a part.
enum class Covered : std::uint8_t { all, none, part };
Covered covered(const CheckedModel& model, const Predicate& predicate, const Across& across);

// Whether a predicate of a key narrows the slice to one value of what a node of Op::grouping names.
bool is_grouped_by(const CheckedModel& model, const Predicate& predicate, const Node& grouping);

// Whether `during` replaces the predicate: those on the calendar's day and on its columns of periods.
Covered replaced_by_during(const CheckedModel& model, const Predicate& predicate);

// `roles` with one more, which replaces another one between the same tables.
Roles with_role(const CheckedModel& model, Roles roles, LinkIndex role);

// A path as it is followed where `roles` hold: a link without a role is replaced by the role between its tables.
ColumnRef routed(const CheckedModel& model, ColumnRef ref, const Roles& roles);

// What narrowing to a row of `set` adds to the slice that the row carries: its identity, or its keys and the conditions
// of the rows that it was made of. `set` is null for a calculated column's row, which is one of `table`.
std::vector<Predicate> narrowing(const RowSetPtr& set, TableIndex table);

// What an expression does with the slice that it is evaluated in.
struct SliceUse {
  std::set<SeenTable> tables;     // whose rows it aggregates
  std::set<std::size_t> reached;  // ids of the predicates that filter any of these
  std::set<std::size_t> dropped;  // and of those that an `across` or `during` drops
};

// Follows an expression through its measures, loops and modifiers. Appends an error for each predicate that reaches a
// table, or is dropped, in part. `row` is the row of a calculated column, a row of `row_table`.
struct SliceStart {
  std::vector<Predicate> predicates;
  std::optional<std::pair<VariableId, TableIndex>> row;
  std::string what;  // whose expression it is, for messages
};
SliceUse follow_slices(const CheckedModel& model, const NodePtr& node, const SliceStart& start,
                       Diagnostics& diagnostics);

}  // namespace juniper::language
