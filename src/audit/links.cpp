#include "juniper/links.h"

#include <algorithm>
#include <unordered_map>

#include "language/checked.h"
#include "store/store.h"

namespace juniper {

namespace {

LinkUse use_of(const store::StoredLink& link, const store::Column& from, std::size_t samples) {
  LinkUse use;
  use.link = link.name;
  use.many_rows = from.rows;
  use.many_keys = from.distinct;
  use.null_rows = from.nulls;
  use.one_rows = link.no_row;
  use.bytes = link.rows.bytes().size();
  std::vector<bool> used(link.no_row, false);
  std::unordered_map<std::uint64_t, std::uint64_t> orphans;  // rows by code of the many side
  std::vector<std::uint64_t> rows(store::block_rows);
  std::vector<std::uint64_t> keys(store::block_rows);
  for (std::size_t block = 0; block < from.codes.blocks(); ++block) {
    link.rows.decode_block(block, rows.data());
    from.codes.decode_block(block, keys.data());
    for (std::size_t i = 0; i < from.codes.rows_in_block(block); ++i) {
      if (rows[i] != link.no_row) {
        used[rows[i]] = true;
      } else if (keys[i] != from.null_code) {
        ++orphans[keys[i]];
      }
    }
  }
  use.used_rows = static_cast<std::uint64_t>(std::count(used.begin(), used.end(), true));
  std::vector<std::pair<std::uint64_t, std::uint64_t>> ranked(orphans.begin(), orphans.end());
  std::sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) {
    return a.second != b.second ? a.second > b.second : a.first < b.first;
  });
  use.orphan_keys = ranked.size();
  for (const auto& [code, count] : ranked) {
    use.orphan_rows += count;
    if (use.samples.size() < samples) use.samples.push_back({to_text(from.value_of(code), from.type), count});
  }
  return use;
}

}  // namespace

std::vector<LinkUse> links(const Dataset& dataset, std::size_t samples) {
  const language::CheckedModel& model = dataset.model().checked();
  const store::Store& store = dataset.store();
  std::vector<LinkUse> uses;
  for (std::size_t i = 0; i < store.links.size(); ++i) {
    const language::ColumnId from = model.links[i].from;
    uses.push_back(use_of(store.links[i], store.tables[from.table].columns[from.column].data, samples));
  }
  return uses;
}

}  // namespace juniper
