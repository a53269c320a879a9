#include "loading/carried_columns.h"

#include <fmt/format.h>

#include <set>

#include "base/failure.h"
#include "language/traverse.h"
#include "model/access.h"

namespace juniper::loading {

using namespace language;

namespace {

// What a column's values are made from, through all that it needs.
class Ground {
 public:
  explicit Ground(const CheckedModel& model) : model_(model) {}

  void add(ColumnId id) {
    if (!columns_.insert(id).second) return;
    tables_.insert(id.table);
    const Column& column = model_.column(id);
    if (column.expression) add(needs_of(model_, column.expression, id.table), measures_in(model_, column.expression));
  }

  const std::set<TableIndex>& tables() const { return tables_; }

  // The same for the same meaning. Links and the calendar are all in it: they tell how columns are reached.
  std::string meaning(std::int64_t today) const {
    std::set<std::string> parts;
    bool reads_today = false;
    const auto look = [&](const Node& n) {
      reads_today = reads_today || (n.op == Op::call && n.function == Function::today);
    };
    for (const ColumnId id : columns_) {
      const Column& column = model_.column(id);
      parts.insert(fmt::format("column {:?} {} {} {}", model_.column_name(id), to_string(column.type), column.key,
                               column.expression ? canonical(model_, column.expression, OuterRows::by_order) : ""));
      if (column.expression) walk(column.expression, look);
    }
    for (const MeasureIndex m : measures_) {
      const Measure& measure = model_.measures[m];
      parts.insert(
          fmt::format("measure {:?} {}", measure.name, canonical(model_, measure.expression, OuterRows::by_order)));
      walk(measure.expression, look);
    }
    for (const Link& link : model_.links) parts.insert("link " + model_.link_name(link));
    if (model_.calendar) {
      std::string calendar = "calendar " + model_.column_name(model_.calendar->day);
      for (const std::uint32_t period : model_.calendar->periods) calendar += fmt::format(" {}", period);
      parts.insert(calendar);
    }
    if (reads_today) parts.insert(fmt::format("today {}", today));
    return fmt::format("{}", fmt::join(parts, "\n"));
  }

 private:
  void add(const Needs& needs, const std::set<MeasureIndex>& measures) {
    measures_.insert(measures.begin(), measures.end());
    tables_.insert(needs.tables.begin(), needs.tables.end());
    for (const ColumnId id : needs.columns) add(id);
    for (const LinkIndex link : needs.links) {
      for (const LinkEnd* const end : {&model_.links[link].from, &model_.links[link].to}) {
        for (const std::uint32_t c : end->columns) add({end->table, c});
      }
    }
  }

  const CheckedModel& model_;
  std::set<ColumnId> columns_;
  std::set<TableIndex> tables_;
  std::set<MeasureIndex> measures_;
};

}  // namespace

CarriedColumns::CarriedColumns(const CheckedModel& model, std::int64_t today, const store::Store* earlier)
    : model_(model), today_(today), earlier_(earlier) {
  if (earlier == nullptr) return;
  ReadOptions options;
  for (const store::StoredParameter& parameter : earlier->parameters)
    options.settings[parameter.name] = parameter.value;
  auto parsed = Model::parse(earlier->model_texts, options);
  if (!parsed) return;
  earlier_model_ = std::move(*parsed);
  const CheckedModel& then = model::checked(*earlier_model_);
  for (const store::StoredTable& table : earlier->tables) {
    const auto t = then.find_table(table.name);
    if (!t) continue;
    for (const store::StoredColumn& column : table.columns) {
      const auto c = then.tables[*t].find(column.name);
      if (c && column.calculated && column.broken.empty())
        columns_.emplace(std::pair(table.name, column.name), std::pair(&column, ColumnId{*t, *c}));
    }
  }
}

const store::StoredColumn* CarriedColumns::find(ColumnId id, const std::vector<bool>& unchanged) const {
  const auto at = columns_.find({model_.tables[id.table].name, model_.column(id).name});
  if (at == columns_.end()) return nullptr;
  const store::StoredColumn* const stored = at->second.first;
  const ColumnId then = at->second.second;
  Ground now(model_);
  now.add(id);
  for (const TableIndex t : now.tables()) {
    if (!unchanged[t]) return nullptr;
  }
  Ground before(model::checked(*earlier_model_));
  before.add(then);
  // A store whose columns read no day has none.
  if (now.meaning(today_) != before.meaning(earlier_->today.value_or(today_))) return nullptr;
  if (stored->data.type != model_.column(id).type) return nullptr;
  // Damage is not carried on.
  const auto whole = base::guarded([&]() -> Result<void> {
    stored->data.verify();
    return {};
  });
  return whole ? stored : nullptr;
}

}  // namespace juniper::loading
