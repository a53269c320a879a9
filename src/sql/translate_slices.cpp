// FROM with its joins, and the conditions that a slice puts on the rows of a table.
#include <fmt/format.h>

#include <algorithm>

#include "base/calendar.h"
#include "base/failure.h"
#include "language/traverse.h"
#include "sql/aliases.h"
#include "sql/translator.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

bool is_leaf(const Node& n) {
  return (n.op == Op::column && n.variable != slice_row) || n.op == Op::field || n.op == Op::name ||
         n.op == Op::measure || n.op == Op::modified || n.op == Op::let || n.op == Op::aggregate ||
         n.op == Op::grouping;
}

std::string bracketed(const std::string& expression) {
  return "(" + expression + ")";
}

}  // namespace

std::string from_text(const From& from) {
  std::string out = from.source + " " + from.alias;
  for (const std::string& clause : from.clauses) out += " " + clause;
  return out;
}

std::string where_text(const std::vector<std::string>& where) {
  return where.empty() ? "" : " WHERE " + joined(where, " AND ");
}

std::shared_ptr<From> Translator::table(TableIndex table) {
  auto from = std::make_shared<From>();
  from->source = named(table);
  from->alias = next_alias();
  return from;
}

std::string Translator::named(TableIndex table) {
  used_.insert(table);
  return dialect_.table(model_.tables[table]);
}

// The alias under which a path's end is joined.
std::string Translator::joined_at(From& from, const std::vector<LinkIndex>& path) {
  if (path.empty()) return from.alias;
  if (const auto known = from.joins.find(path); known != from.joins.end()) return known->second;
  const std::string before = joined_at(from, {path.begin(), path.end() - 1});
  const Link& link = model_.links[path.back()];
  if (!link.broken.empty()) {
    throw base::Failure({model_.sources.diagnostic(Severity::error, "JR-706", link.span,
                                                   "this needs a link that is broken: " + link.broken)});
  }
  std::string alias = next_alias();
  std::vector<std::string> equal;
  for (std::size_t c = 0; c < link.from.columns.size(); ++c) {
    equal.push_back(fmt::format("{}.{} = {}.{}", alias,
                                quoted_name(model_.tables[link.to.table].columns[link.to.columns[c]].name), before,
                                quoted_name(model_.tables[link.from.table].columns[link.from.columns[c]].name)));
  }
  from.clauses.push_back(fmt::format("LEFT JOIN {} {} ON {}", named(link.to.table), alias, joined(equal, " AND ")));
  from.joins.emplace(path, alias);
  return alias;
}

std::string Translator::column(From& from, const ColumnRef& ref) {
  return joined_at(from, ref.path) + "." + quoted_name(model_.column(ref.column).name);
}

std::vector<std::string> Translator::allow(RowsSql& rows, TableIndex table, const std::vector<OverBridge>& keys) {
  const HeldSlice slice = rows.row.slice;
  for (const HeldPredicate& held : slice.predicates) {
    if (reach(model_, held.predicate, table, slice.roles) == Reach::all) allow(rows, table, held);
  }
  std::vector<std::string> read(keys.size());
  for (const TableIndex bridge : slice.bridges) {
    const Meeting met = meeting(model_, table, bridge, slice.roles);
    if (met.is_plain) join_bridge(rows, table, bridge, met, keys, read);
  }
  return read;
}

// Each of the rows once for all rows of the bridge that lead to where it leads and say the same of what is compared.
void Translator::join_bridge(RowsSql& rows, TableIndex table, TableIndex bridge, const Meeting& met,
                             const std::vector<OverBridge>& keys, std::vector<std::string>& read) {
  RowsSql over;
  over.from = this->table(bridge);
  over.row.slice.roles = rows.row.slice.roles;
  for (const HeldPredicate& held : rows.row.slice.predicates) {
    if (reach_through(model_, held.predicate, table, bridge, over.row.slice.roles) == Reach::all)
      allow(over, bridge, held);
  }
  const std::string named = joined_at(*over.from, met.from_bridge) + ".\"row$\"";
  const std::string mine = joined_at(*rows.from, met.from_table) + ".\"row$\"";
  Columns columns{{named, "met"}};
  for (std::size_t k = 0; k < keys.size(); ++k) {
    if (keys[k].first == bridge)
      columns.emplace_back(seen_from(keys[k].second, {}, over, bridge), fmt::format("k{}", k));
  }
  const auto select = closed_select(over, "DISTINCT ", columns);
  if (!select) {
    std::vector<std::string> where = conditions(over);
    where.push_back(fmt::format("{} = {}", named, mine));
    rows.where.push_back(fmt::format("EXISTS (SELECT 1 FROM {}{})", from_text(*over.from), where_text(where)));
    return;
  }
  const std::string alias = next_alias();
  rows.from->clauses.push_back(fmt::format("JOIN {0} {1} ON {1}.met = {2}", parts_.add(*select), alias, mine));
  for (std::size_t b = 0; b < over.bound.size(); ++b)
    rows.bound.push_back({fmt::format("{}.p{}", alias, b), over.bound[b].outer, over.bound[b].nulls_meet});
  for (std::size_t k = 0; k < keys.size(); ++k) {
    if (keys[k].first == bridge) read[k] = fmt::format("{}.k{}", alias, k);
  }
}

void Translator::allow(RowsSql& rows, TableIndex table, const HeldPredicate& held) {
  const HeldSlice& slice = rows.row.slice;
  const NodePtr& expression = held.predicate.expression;
  switch (held.predicate.kind) {
    case PredicateKind::filter: {
      std::string condition = bracketed(seen_from(expression, held, rows, table));
      if (expression->op == Op::equal) {
        require_equal(rows, bracketed(seen_from(expression->children[0], held, rows, table)),
                      bracketed(seen_from(expression->children[1], held, rows, table)), std::move(condition));
      } else {
        rows.where.push_back(std::move(condition));
      }
      break;
    }
    case PredicateKind::key:
      rows.bound.push_back({bracketed(seen_from(expression, held, rows, table)), held.value, true});
      break;
    case PredicateKind::row: {
      const auto path = model_.paths(table, held.predicate.table, slice.roles).front();
      rows.bound.push_back({joined_at(*rows.from, path) + ".\"row$\"", held.value, false});
      break;
    }
    case PredicateKind::days: {
      const auto ref = model_.rebase({held.predicate.table, {}, model_.calendar->day}, table, slice.roles).ref;
      const std::string day = column(*rows.from, *ref);
      if (held.days.named) {
        const std::string alias = next_alias();
        RowsSql::Joined days;
        days.source = held.days.named->part + " " + alias;
        for (const Bound& bound : held.days.named->bound) {
          const std::string own = alias + "." + bound.inner;
          days.where.push_back(bound.nulls_meet ? dialect_.same(own, bound.outer) : own + " = " + bound.outer);
        }
        days.day = {day, alias + ".day", false};
        rows.days = std::move(days);
      } else if (!held.days.correlated.empty()) {
        rows.where.push_back(fmt::format("EXISTS (SELECT 1 FROM ({}) r WHERE {} BETWEEN r.\"first\" AND r.\"last\")",
                                         held.days.correlated, day));
      } else {
        rows.where.push_back(fmt::format("{} BETWEEN {} AND {}", day, held.days.first, held.days.last));
      }
      break;
    }
  }
}

std::vector<std::string> Translator::conditions(const RowsSql& rows) const {
  std::vector<std::string> where = rows.where;
  for (const Bound& bound : rows.bound) {
    where.push_back(bound.nulls_meet ? dialect_.same(bound.inner, bound.outer)
                                     : fmt::format("{} = {}", bound.inner, bound.outer));
  }
  if (rows.days) {
    std::vector<std::string> days = rows.days->where;
    days.push_back(fmt::format("{} = {}", rows.days->day.outer, rows.days->day.inner));
    where.push_back(fmt::format("EXISTS (SELECT 1 FROM {}{})", rows.days->source, where_text(days)));
  }
  return where;
}

HeldSlice Translator::filters(const Query& query) const {
  HeldSlice slice;
  for (const NodePtr& condition : query.where) {
    HeldPredicate held;
    held.predicate.expression = condition;
    held.predicate.span = condition->span;
    slice.predicates.push_back(std::move(held));
  }
  return slice;
}

// An expression over columns of the slice, as read from rows of `table`.
std::string Translator::seen_from(const NodePtr& expression, const HeldPredicate& held, const RowsSql& rows,
                                  TableIndex table) {
  Scope scope;
  scope.names = held.names;
  RowSql row;
  row.table = table;
  row.from = rows.from;
  scope.rows.emplace(slice_row, std::move(row));
  const NodePtr seen = replaced(expression, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || n->variable != slice_row) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->column = *model_.rebase(n->column, table, rows.row.slice.roles).ref;
    return copy;
  });
  return value(seen, scope);
}

// A predicate with what it reads from outside of the slice written out as it is here.
HeldPredicate Translator::captured(const Predicate& predicate, const Scope& scope) {
  HeldPredicate held;
  held.predicate = predicate;
  held.predicate.expression = replaced(predicate.expression, [&](const NodePtr& n) -> NodePtr {
    if (!is_leaf(*n)) return nullptr;
    auto name = std::make_shared<Node>();
    name->op = Op::name;
    name->type = n->type;
    name->span = n->span;
    name->variable = next_name_++;
    held.names[name->variable] = bracketed(value(n, scope));
    return name;
  });
  return held;
}

HeldSlice Translator::narrowed(const RowSql& row, const Scope& scope) {
  HeldSlice slice = row.slice;
  std::size_t field = 0;
  for (const Predicate& predicate : narrowing(row.set, row.table.value_or(0))) {
    if (predicate.kind == PredicateKind::row) {
      HeldPredicate held;
      held.predicate = predicate;
      held.value = row.from->alias + ".\"row$\"";
      slice.predicates.push_back(std::move(held));
      continue;
    }
    HeldPredicate held = captured(predicate, scope);
    if (predicate.kind == PredicateKind::key) {
      while (!row.set->fields[field].identifies) ++field;
      held.value = row.fields[field++];
    }
    slice.predicates.push_back(std::move(held));
  }
  return slice;
}

void Translator::drop(HeldSlice& slice, const Across& across) const {
  std::erase_if(slice.predicates,
                [&](const HeldPredicate& held) { return covered(model_, held.predicate, across) == Covered::all; });
}

HeldSlice Translator::modified(const Modifiers& m, const Scope& scope) {
  HeldSlice slice = m.of ? narrowed(scope.rows.at(*m.of), scope) : scope.slice;
  if (m.via) slice.roles = with_role(model_, slice.roles, *m.via);
  if (m.through) slice.bridges = with_bridge(std::move(slice.bridges), m.through->table);
  if (m.across) drop(slice, *m.across);
  if (m.during) move(slice, *m.during);
  for (const NodePtr& condition : m.where)
    slice.predicates.push_back(captured({PredicateKind::filter, condition, 0, condition->span, 0}, scope));
  return slice;
}

void Translator::move(HeldSlice& slice, const During& during) {
  const TableIndex calendar = model_.calendar->day.table;
  const base::Unit unit = during.unit;
  HeldSlice here = slice;
  here.bridges.clear();
  const auto edge = [&](std::string_view word) {
    RowsSql days;
    days.from = table(calendar);
    days.row.slice = here;
    allow(days, calendar);
    return aggregated(days, column(*days.from, {calendar, {}, model_.calendar->day}),
                      {fmt::format("{}(x)", word), Aggregation::Merge::same});
  };
  HeldPredicate held;
  held.predicate = {PredicateKind::days, nullptr, calendar, during.span, 0};
  std::string& first = held.days.first;
  std::string& last = held.days.last;
  switch (during.period) {
    case Period::to_date:
      last = edge("MAX");
      first = dialect_.start_of(last, unit);
      break;
    case Period::whole:
      first = dialect_.start_of(edge("MAX"), unit);
      last = dialect_.end_of(edge("MAX"), unit);
      break;
    case Period::previous:
      last = "(" + dialect_.start_of(edge("MIN"), unit) + " - 1)";
      first = dialect_.start_of(last, unit);
      break;
    case Period::next:
      first = "(" + dialect_.end_of(edge("MAX"), unit) + " + 1)";
      last = dialect_.end_of(first, unit);
      break;
    case Period::trailing:
      last = edge("MAX");
      // What would begin before the year 1 begins with it.
      first = fmt::format("coalesce(CASE WHEN {0} = {1} THEN {2} ELSE {3} + 1 END, {4})", dialect_.end_of(last, unit),
                          last, dialect_.moved(dialect_.start_of(last, unit), std::to_string(1 - during.count), unit),
                          dialect_.moved(last, std::to_string(-during.count), unit),
                          base::days_from_civil(base::first_year, 1, 1));
      break;
    case Period::shift:
      held.days = shifted(here, during);
      break;
  }
  std::erase_if(slice.predicates, [&](const HeldPredicate& other) {
    return replaced_by_during(model_, other.predicate) == Covered::all;
  });
  slice.predicates.push_back(std::move(held));
}

// From the days of a slice, as `select` has them beside columns p0, p1, … that are bound: ranges of those that they move
// to. Where they are all days of the months that they touch, these months move whole; else each day by itself.
std::string Translator::moved_ranges(const std::string& select, std::size_t bound, const During& during) const {
  std::string keys;
  std::string by;
  for (std::size_t b = 0; b < bound; ++b) {
    keys += fmt::format("p{}, ", b);
    by += fmt::format("{}p{}", b == 0 ? "PARTITION BY " : ", ", b);
  }
  const std::string moved = dialect_.moved("day", std::to_string(during.count), during.unit);
  if (during.unit == base::Unit::day || during.unit == base::Unit::week)
    return fmt::format("SELECT DISTINCT {0}{1} AS \"first\", {1} AS \"last\" FROM ({2}) d", keys, moved, select);
  const std::string start = dialect_.start_of("day", base::Unit::month);
  const std::string end = dialect_.end_of("day", base::Unit::month);
  const std::string counted =
      fmt::format("SELECT {0}day, COUNT(*) OVER (PARTITION BY {0}{1}) AS days FROM ({2}) d WHERE day IS NOT NULL", keys,
                  start, select);
  const std::string told = fmt::format(
      "SELECT {0}day, MIN(CASE WHEN days = {1} - {2} + 1 THEN 1 ELSE 0 END) OVER ({3}) AS whole FROM ({4}) d", keys,
      end, start, by, counted);
  return fmt::format(
      "SELECT DISTINCT {0}CASE WHEN whole = 1 THEN {1} ELSE {3} END AS \"first\", "
      "CASE WHEN whole = 1 THEN {2} ELSE {3} END AS \"last\" FROM ({4}) d",
      keys, dialect_.start_of(moved, base::Unit::month), dialect_.end_of(moved, base::Unit::month), moved, told);
}

// The days of a slice, moved.
HeldDays Translator::shifted(const HeldSlice& here, const During& during) {
  const TableIndex calendar = model_.calendar->day.table;
  RowsSql rows;
  rows.from = table(calendar);
  rows.row.slice = here;
  allow(rows, calendar);
  HeldDays days;
  const Columns day{{column(*rows.from, {calendar, {}, model_.calendar->day}), "day"}};
  if (const auto select = closed_select(rows, "", day)) {
    // The days themselves, of which the calendar's are found at once.
    const auto all = table(calendar);
    std::string keys;
    for (std::size_t b = 0; b < rows.bound.size(); ++b) keys += fmt::format("r.p{0} AS p{0}, ", b);
    const std::string own = column(*all, {calendar, {}, model_.calendar->day});
    days.named = {
        parts_.add(fmt::format("SELECT DISTINCT {}{} AS day FROM ({}) r JOIN {} ON {} BETWEEN r.\"first\" AND "
                               "r.\"last\"",
                               keys, own, moved_ranges(*select, rows.bound.size(), during), from_text(*all), own)),
        rows.bound};
    for (std::size_t b = 0; b < rows.bound.size(); ++b) days.named->bound[b].inner = fmt::format("p{}", b);
    return days;
  }
  days.correlated = moved_ranges(correlated_select(rows, "", day), 0, during);
  return days;
}

bool Translator::is_grouped(const Node& node, const HeldSlice& slice) const {
  return std::any_of(slice.predicates.begin(), slice.predicates.end(),
                     [&](const auto& held) { return is_grouped_by(model_, held.predicate, node); });
}

}  // namespace juniper::sql_engine
