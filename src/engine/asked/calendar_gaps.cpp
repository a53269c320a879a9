#include "engine/asked/calendar_gaps.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/calendar.h"
#include "base/format.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

Diagnostics calendar_gaps(const CheckedModel& model, const store::Store& store) {
  if (!model.calendar) return {};
  const ColumnId id = model.calendar->day;
  const store::StoredColumn& stored = store.tables[id.table].columns[id.column];
  const store::Column& day = stored.data;
  if (!stored.broken.empty() || !store.tables[id.table].broken.empty() || day.distinct == 0) return {};
  const auto first = static_cast<std::int64_t>(day.least.exact());
  const auto last = static_cast<std::int64_t>(day.most.exact());
  const auto all = static_cast<std::uint64_t>(last - first) + 1;
  if (all <= day.distinct) return {};
  std::set<std::int64_t> present;
  for (const std::uint64_t code : day.codes.decoded()) {
    if (code != day.null_code) present.insert(day.exact_of(code));
  }
  std::int64_t missing = first;
  while (present.contains(missing)) ++missing;
  const auto year_of = [](std::int64_t d) { return static_cast<int>(base::civil_from_days(d).year()); };
  return {model.sources.diagnostic(
      Severity::warning, "JR-525", model.calendar->span,
      fmt::format("the calendar lacks {} of the {} days from {} to {}, the first of them {}: periods leave them out",
                  base::grouped(all - day.distinct), base::grouped(all), base::date_text(first), base::date_text(last),
                  base::date_text(missing)),
      fmt::format("add them, or ask for a calendar: table {} = every day from {} to {}", model.tables[id.table].name,
                  year_of(first), year_of(last)))};
}

bool moves_in_time(const CheckedModel& model, const Query& query) {
  bool moves = false;
  std::set<MeasureIndex> seen;
  const std::function<void(const NodePtr&)> look = [&](const NodePtr& node) {
    walk(node, [&](const Node& n) {
      moves = moves || (n.modifiers && n.modifiers->during);
      if (n.op == Op::measure && seen.insert(n.measure).second) look(model.measures[n.measure].expression);
    });
  };
  for (const QueryShow& item : query.show) look(item.expression);
  look(query.having);
  return moves;
}

}  // namespace juniper::engine
