#include "refactor/sample.h"

#include <algorithm>
#include <map>

#include "base/parallel.h"
#include "model/access.h"
#include "source/column_input.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::refactoring {

using namespace language;

namespace {

constexpr std::uint64_t longest_stretch = 128;  // of rows that stand together: fewer blocks are read than there are
constexpr std::uint64_t fewest_stretches = 64;
constexpr std::size_t most_without_match = 64;  // of each link

// Calls take(row, to) for rows in turn, with the row that each leads to, until it says false. Blocks are read as they are
// needed.
template <class Take>
void each_row(store::LinkRows link, const Take& take) {
  std::vector<std::uint64_t> block(store::block_rows);
  for (std::uint64_t row = 0; row < link.size(); ++row) {
    if (row % store::block_rows == 0) link.decode_block(row / store::block_rows, block.data());
    if (!take(row, block[row % store::block_rows])) return;
  }
}

// The rows that some rows lead to.
std::vector<std::uint64_t> rows_behind(store::LinkRows link, const std::vector<std::uint64_t>& rows) {
  std::vector<std::uint64_t> block(store::block_rows);
  std::vector<std::uint64_t> behind;
  behind.reserve(rows.size());
  std::uint64_t decoded = link.blocks();  // none yet
  for (const std::uint64_t row : rows) {
    if (row / store::block_rows != decoded) {
      decoded = row / store::block_rows;
      link.decode_block(decoded, block.data());
    }
    behind.push_back(block[row % store::block_rows]);
  }
  return behind;
}

// The rows to keep, ascending.
std::vector<std::uint64_t> chosen_rows_of(const CheckedModel& model, const store::Store& store, TableIndex t,
                                          std::uint64_t most_rows) {
  const std::uint64_t rows = store.tables[t].rows;
  std::vector<std::uint64_t> chosen;
  const std::uint64_t stretches =
      std::max((most_rows + longest_stretch - 1) / longest_stretch, std::min(most_rows, fewest_stretches));
  for (std::uint64_t s = 0; s < stretches; ++s) {
    const std::uint64_t begin = s * (rows / stretches);
    const std::uint64_t length = most_rows * (s + 1) / stretches - most_rows * s / stretches;
    for (std::uint64_t row = begin; row < begin + length; ++row) chosen.push_back(row);
  }
  for (std::size_t link = 0; link < model.links.size(); ++link) {
    if (model.links[link].from.table != t || !store.links[link].broken.empty()) continue;
    std::size_t without_match = 0;
    each_row(store::link_rows(store, store.links[link]), [&](std::uint64_t row, std::uint64_t leads_to) {
      if (leads_to == store.links[link].no_row) {
        chosen.push_back(row);
        ++without_match;
      }
      return without_match < most_without_match;
    });
  }
  std::sort(chosen.begin(), chosen.end());
  chosen.erase(std::unique(chosen.begin(), chosen.end()), chosen.end());
  return chosen;
}

using ChosenRows = std::map<std::string, std::vector<std::uint64_t>>;  // by table

Dataset reduced(const Dataset& dataset, const ChosenRows& chosen) {
  const CheckedModel& model = model::checked(dataset.model());
  const unsigned threads = base::thread_count(dataset.options().threads);
  const store::Store& whole = store::store_of(dataset);
  auto store = std::make_shared<store::Store>(whole);
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const auto rows = chosen.find(model.tables[t].name);
    if (rows == chosen.end()) continue;
    store::StoredTable& table = store->tables[t];
    table.rows = rows->second.size();
    base::parallel_for(table.columns.size(), threads, [&](std::size_t c) {
      store::StoredColumn& column = table.columns[c];
      if (column.broken.empty()) column.data = store::encode_column(store::chosen_rows(column.data, rows->second));
    });
    for (std::size_t link = 0; link < model.links.size(); ++link) {
      if (model.links[link].from.table != t || !store->links[link].broken.empty()) continue;
      // The key's codes are others in the rows that are left.
      store->links[link].form = store::LinkForm::by_row;
      store->links[link].rows =
          store::Codes::encode(rows_behind(store::link_rows(whole, whole.links[link]), rows->second));
    }
  }
  return store::dataset_of(dataset.model(), std::move(store), dataset.options(), store::live_of(dataset));
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
