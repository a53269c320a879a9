// Slices: which rows each allows, and what narrows, drops and moves do to them, by the naive evaluator.
#include "engine/naive/evaluator.h"

#include <algorithm>

#include "base/calendar.h"
#include "language/traverse.h"

namespace juniper::engine::naive {

namespace {

// The name of a value that a predicate compares with and that overflows; no `let` has it.
constexpr VariableId overflowed = slice_row;

}  // namespace

std::vector<Row> Naive::allowed(TableIndex table, const HeldSlice& slice) {
  std::vector<Row> found = candidates(table, slice);
  settle(found);
  return found;
}

void Naive::settle(const std::vector<Row>& rows) {
  for (const Row& row : rows) {
    if (row.doubt) throw NoAnswer{*row.doubt};
  }
}

std::vector<Row> Naive::candidates(TableIndex table, const HeldSlice& slice) {
  // The predicates that reach the table, and what they ask as it is read from its rows.
  std::vector<std::pair<const Held*, NodePtr>> reaching;
  for (const Held& held : slice.predicates) {
    if (reach(model_, held.predicate, table, slice.roles) != Reach::all) continue;
    const NodePtr& expression = held.predicate.expression;
    reaching.emplace_back(&held, expression ? seen_from(expression, table, slice.roles) : nullptr);
  }
  // Over each bridge, which rows there are named; with a doubt where all that name one are in doubt.
  struct Over {
    std::vector<LinkIndex> path;
    std::map<std::uint64_t, std::shared_ptr<const Diagnostics>> named;
  };
  std::vector<Over> bridges;
  for (const TableIndex bridge : slice.bridges) {
    const Meeting met = meeting(model_, table, bridge, slice.roles);
    if (!met.is_plain) continue;
    Over& over = bridges.emplace_back();
    over.path = met.from_table;
    for (const BridgeRow& named : bridge_rows(table, bridge, slice)) {
      const auto [at, is_first] = over.named.emplace(named.met, named.row.doubt);
      if (!is_first && !named.row.doubt) at->second = nullptr;
    }
  }
  const auto is_named = [&](const Over& over, Row& row) {
    const auto at = row_at(row, over.path);
    const auto named = at ? over.named.find(*at) : over.named.end();
    if (named == over.named.end()) return false;
    if (named->second) row.doubt = named->second;
    return true;
  };
  std::vector<Row> found;
  for (std::uint64_t i = 0; i < data_.rows(table); ++i) {
    count_step();
    Row row;
    row.table = table;
    row.row = i;
    if (std::all_of(reaching.begin(), reaching.end(),
                    [&](const auto& asked) { return may_hold(*asked.first, asked.second, row, slice.roles); }) &&
        std::all_of(bridges.begin(), bridges.end(), [&](const Over& over) { return is_named(over, row); }))
      found.push_back(std::move(row));
  }
  std::stable_sort(found.begin(), found.end(), [&](const Row& a, const Row& b) { return in_order(a, b); });
  return found;
}

std::vector<Naive::BridgeRow> Naive::bridge_rows(TableIndex table, TableIndex bridge, const HeldSlice& slice) {
  HeldSlice over;
  over.roles = slice.roles;
  for (const Held& held : slice.predicates) {
    if (reach_through(model_, held.predicate, table, bridge, slice.roles) == Reach::all)
      over.predicates.push_back(held);
  }
  const Meeting met = meeting(model_, table, bridge, slice.roles);
  std::vector<BridgeRow> rows;
  for (Row& row : candidates(bridge, over)) {
    if (const auto at = row_at(row, met.from_bridge)) rows.push_back({std::move(row), *at});
  }
  return rows;
}

bool Naive::may_hold(const Held& held, const NodePtr& expression, Row& row, const Roles& roles) {
  const Predicate& predicate = held.predicate;
  const auto asked = [&] {
    Scope scope = scope_of(row);
    if (held.overflow) scope.values[overflowed] = std::make_shared<NamedValue>(NamedValue{{}, {}, Cell{{}, true}});
    Cell cell = value(expression, scope);
    if (cell.overflow && !row.doubt) {
      row.doubt = std::make_shared<Diagnostics>(Diagnostics{model_.sources.diagnostic(
          Severity::error, "JR-701", held.overflow.value_or(predicate.span),
          held.overflow ? "this value does not fit its type" : "this condition overflows in some row",
          "use fewer digits after the point, or a real")});
    }
    return cell;
  };
  switch (predicate.kind) {
    case PredicateKind::filter: {
      const Cell cell = asked();
      return cell.overflow || is_true(cell);
    }
    case PredicateKind::key: {
      const Cell cell = asked();
      return cell.overflow || compare(cell.value, held.key) == 0;
    }
    case PredicateKind::row:
      return row_at(row, model_.paths(*row.table, predicate.table, roles).front()) == held.row;
    case PredicateKind::days: {
      const auto day = model_.rebase({predicate.table, {}, model_.calendar->day}, *row.table, roles).ref;
      const Cell cell = read(row, *day, {});
      if (!cell.value.is_null() && held.doubt) {
        row.doubt = held.doubt;
        return true;
      }
      return !cell.value.is_null() && held.days.contains(static_cast<std::int64_t>(cell.value.exact()));
    }
  }
  return true;
}

std::optional<std::uint64_t> Naive::row_at(const Row& row, const std::vector<LinkIndex>& path) {
  std::optional<std::uint64_t> at = row.row;
  for (const LinkIndex link : path) {
    if (at) at = data_.link(link)[*at];
  }
  return at;
}

NodePtr Naive::seen_from(const NodePtr& node, TableIndex table, const Roles& roles) const {
  return language::replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || n->variable != slice_row) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->column = *model_.rebase(n->column, table, roles).ref;
    return copy;
  });
}

Scope Naive::scope_of(const Row& row) {
  Scope scope;
  scope.rows[slice_row] = row;
  return scope;
}

void Naive::close(Held& held, const NodePtr& condition, const Scope& scope) {
  held.predicate.expression = language::replaced(condition, [&](const NodePtr& n) -> NodePtr {
    const bool leaf = (n->op == Op::column && n->variable != slice_row) || n->op == Op::field || n->op == Op::name ||
                      n->op == Op::measure || n->op == Op::modified || n->op == Op::let || n->op == Op::aggregate ||
                      n->op == Op::grouping;
    if (!leaf) return nullptr;
    Cell cell;
    try {
      cell = value(n, scope);
    } catch (const NoAnswer&) {
      cell.overflow = true;
    }
    auto closed = std::make_shared<Node>();
    closed->type = n->type;
    closed->span = n->span;
    closed->literal = cell.value;
    if (cell.overflow) {
      held.overflow = n->span;
      closed->op = Op::name;
      closed->variable = overflowed;
    }
    return closed;
  });
}

HeldSlice Naive::narrowed(const Row& row, const Scope& scope) {
  HeldSlice slice = row.slice;
  const auto added = narrowing(row.set, row.table.value_or(0));
  std::size_t key = 0;
  for (const Predicate& predicate : added) {
    Held held;
    held.predicate = predicate;
    held.row = row.row;
    if (predicate.kind == PredicateKind::key) {
      while (!row.set->fields[key].identifies) ++key;
      held.key = row.fields[key++].value;
      close(held, predicate.expression, scope);
    } else if (predicate.kind == PredicateKind::filter) {
      close(held, predicate.expression, scope);
    }
    slice.predicates.push_back(std::move(held));
  }
  return slice;
}

void Naive::drop(HeldSlice& slice, const Across& across) const {
  std::erase_if(slice.predicates,
                [&](const Held& held) { return covered(model_, held.predicate, across) == Covered::all; });
}

HeldSlice Naive::modified(const Modifiers& m, const Scope& scope) {
  HeldSlice slice = m.of ? narrowed(scope.rows.at(*m.of), scope) : scope.slice;
  if (m.via) slice.roles = with_role(model_, slice.roles, *m.via);
  if (m.through) slice.bridges = with_bridge(std::move(slice.bridges), m.through->table);
  if (m.across) drop(slice, *m.across);
  if (m.during) move(slice, *m.during);
  for (const NodePtr& condition : m.where) {
    Held held = held_filter(condition);
    close(held, condition, scope);
    slice.predicates.push_back(std::move(held));
  }
  return slice;
}

void Naive::move(HeldSlice& slice, const During& during) {
  const Calendar& calendar = *model_.calendar;
  std::set<std::int64_t> present;
  std::shared_ptr<const Diagnostics> doubt;
  HeldSlice without_bridges = slice;
  without_bridges.bridges.clear();
  for (const Row& row : candidates(calendar.day.table, without_bridges)) {
    if (row.doubt) doubt = row.doubt;
    const Value& day = data_.column(calendar.day)[row.row];
    if (!day.is_null()) present.insert(static_cast<std::int64_t>(day.exact()));
  }
  std::set<std::int64_t> days;
  const auto add_range = [&](std::int64_t from, std::int64_t to) {
    for (std::int64_t day = from; day <= to; ++day) days.insert(day);
  };
  if (!present.empty()) {
    const std::int64_t first = *present.begin();
    const std::int64_t last = *present.rbegin();
    switch (during.period) {
      case Period::to_date:
        add_range(base::start_of(last, during.unit), last);
        break;
      case Period::whole:
        add_range(base::start_of(last, during.unit), base::end_of(last, during.unit));
        break;
      case Period::previous: {
        const std::int64_t end = base::start_of(first, during.unit) - 1;
        add_range(base::start_of(end, during.unit), end);
        break;
      }
      case Period::next: {
        const std::int64_t start = base::end_of(last, during.unit) + 1;
        add_range(start, base::end_of(start, during.unit));
        break;
      }
      case Period::shift: {
        bool is_whole = during.unit != base::Unit::day && during.unit != base::Unit::week;
        for (const std::int64_t day : present) {
          const std::int64_t start = base::start_of(day, base::Unit::month);
          for (std::int64_t d = start; d <= base::end_of(day, base::Unit::month); ++d)
            is_whole = is_whole && present.contains(d);
        }
        for (const std::int64_t day : present) {
          const auto moved = base::moved(day, during.count, during.unit);
          if (!moved) continue;
          add_range(is_whole ? base::start_of(*moved, base::Unit::month) : *moved,
                    is_whole ? base::end_of(*moved, base::Unit::month) : *moved);
        }
        break;
      }
      case Period::trailing: {
        if (base::end_of(last, during.unit) == last) {
          // As many units, one behind the other, from the last one back.
          std::int64_t begin = base::start_of(last, during.unit);
          for (std::int64_t n = 1; n < during.count && begin > base::days_from_civil(1, 1, 1); ++n)
            begin = base::start_of(begin - 1, during.unit);
          add_range(std::max(begin, base::days_from_civil(1, 1, 1)), last);
          break;
        }
        const auto before = base::moved(last, -during.count, during.unit);
        add_range(before ? *before + 1 : base::days_from_civil(1, 1, 1), last);
        break;
      }
    }
  }
  std::erase_if(slice.predicates,
                [&](const Held& held) { return replaced_by_during(model_, held.predicate) == Covered::all; });
  Held held;
  held.predicate = {PredicateKind::days, nullptr, calendar.day.table, during.span, 0};
  held.days = std::move(days);
  held.doubt = std::move(doubt);
  slice.predicates.push_back(std::move(held));
}

bool Naive::is_grouped(const Node& node, const HeldSlice& slice) const {
  return std::any_of(slice.predicates.begin(), slice.predicates.end(),
                     [&](const auto& held) { return is_grouped_by(model_, held.predicate, node); });
}

}  // namespace juniper::engine::naive
