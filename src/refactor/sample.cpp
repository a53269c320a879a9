#include "refactor/sample.h"

#include <algorithm>
#include <map>

#include "model/access.h"
#include "source/column_input.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::refactoring {

using namespace language;

namespace {

constexpr std::uint64_t stretch = 16;           // rows that stand together
constexpr std::size_t most_without_match = 64;  // of each link

// The rows to keep, ascending.
std::vector<std::uint64_t> chosen_rows_of(const CheckedModel& model, const store::Store& store, TableIndex t,
                                          std::uint64_t most_rows) {
  const std::uint64_t rows = store.tables[t].rows;
  std::vector<std::uint64_t> chosen;
  const std::uint64_t stretches = std::max<std::uint64_t>(1, most_rows / stretch);
  for (std::uint64_t s = 0; s < stretches; ++s) {
    const std::uint64_t begin = s * (rows / stretches);
    for (std::uint64_t row = begin; row < std::min(begin + stretch, rows); ++row) chosen.push_back(row);
  }
  for (std::size_t link = 0; link < model.links.size(); ++link) {
    if (model.links[link].from.table != t || !store.links[link].broken.empty()) continue;
    std::size_t found = 0;
    const std::vector<std::uint64_t> leads = store.links[link].rows.decoded();
    for (std::uint64_t row = 0; row < leads.size() && found < most_without_match; ++row) {
      if (leads[row] != store.links[link].no_row) continue;
      chosen.push_back(row);
      ++found;
    }
  }
  std::sort(chosen.begin(), chosen.end());
  chosen.erase(std::unique(chosen.begin(), chosen.end()), chosen.end());
  return chosen;
}

using ChosenRows = std::map<std::string, std::vector<std::uint64_t>>;  // by table

Dataset reduced(const Dataset& dataset, const ChosenRows& chosen) {
  const CheckedModel& model = model::checked(dataset.model());
  auto store = std::make_shared<store::Store>(store::store_of(dataset));
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const auto rows = chosen.find(model.tables[t].name);
    if (rows == chosen.end()) continue;
    store::StoredTable& table = store->tables[t];
    table.rows = rows->second.size();
    for (store::StoredColumn& column : table.columns) {
      if (column.broken.empty()) column.data = store::encode_column(store::chosen_rows(column.data, rows->second));
    }
    for (std::size_t link = 0; link < model.links.size(); ++link) {
      if (model.links[link].from.table != t || !store->links[link].broken.empty()) continue;
      const std::vector<std::uint64_t> leads = store->links[link].rows.decoded();
      std::vector<std::uint64_t> kept;
      kept.reserve(rows->second.size());
      for (const std::uint64_t row : rows->second) kept.push_back(leads[row]);
      store->links[link].rows = store::Codes::encode(kept);
    }
  }
  return store::dataset_of(dataset.model(), std::move(store), dataset.options());
}

}  // namespace

Sample sample(const Dataset& before, const Dataset& after, const Changed& changed, std::uint64_t most_rows) {
  const CheckedModel& model = model::checked(before.model());
  const CheckedModel& model_after = model::checked(after.model());
  const store::Store& store = store::store_of(before);
  ChosenRows chosen;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const Table& table = model.tables[t];
    const auto there = model_after.find_table(table.name);
    const bool is_led_to =
        std::any_of(model.links.begin(), model.links.end(), [&](const Link& link) { return link.to.table == t; }) ||
        std::any_of(model_after.links.begin(), model_after.links.end(),
                    [&](const Link& link) { return there && link.to.table == *there; });
    if (store.tables[t].rows <= most_rows || is_led_to || changed.tables.contains(t) || !there ||
        store::store_of(after).tables[*there].rows != store.tables[t].rows)
      continue;
    chosen.emplace(table.name, chosen_rows_of(model, store, t, most_rows));
  }
  if (chosen.empty()) return {before, after, 0};
  return {reduced(before, chosen), reduced(after, chosen), most_rows};
}

}  // namespace juniper::refactoring
