#include "juniper/links.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>

#include "base/failure.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper {

namespace {

// Keys of one or several columns: the codes of a row, one behind the other.
using Key = std::vector<std::uint64_t>;

std::string text_of(const std::vector<const store::Column*>& columns, const Key& key) {
  std::string text;
  for (std::size_t c = 0; c < key.size(); ++c)
    text += (c == 0 ? "" : ", ") + to_text(columns[c]->value_of(key[c]), columns[c]->type);
  return text;
}

LinkUse use_of(const store::StoredLink& link, const std::vector<const store::Column*>& from, std::size_t samples) {
  LinkUse use;
  use.link = link.name;
  use.many_rows = from[0]->rows;
  use.one_rows = link.no_row;
  use.bytes = link.rows.bytes().size();
  std::vector<bool> used(link.no_row, false);
  boost::unordered_flat_map<Key, std::uint64_t> orphans;  // rows
  std::vector<std::uint64_t> rows(store::block_rows);
  std::vector<std::vector<std::uint64_t>> codes(from.size(), std::vector<std::uint64_t>(store::block_rows));
  Key key(from.size());
  for (std::size_t block = 0; block < from[0]->codes.blocks(); ++block) {
    link.rows.decode_block(block, rows.data());
    for (std::size_t c = 0; c < from.size(); ++c) from[c]->codes.decode_block(block, codes[c].data());
    for (std::size_t i = 0; i < from[0]->codes.rows_in_block(block); ++i) {
      if (rows[i] != link.no_row) {
        used[rows[i]] = true;
        continue;
      }
      bool null = false;
      for (std::size_t c = 0; c < from.size(); ++c) {
        key[c] = codes[c][i];
        null = null || key[c] == from[c]->null_code;
      }
      if (null) {
        ++use.null_rows;
      } else {
        ++orphans[key];
      }
    }
  }
  use.used_rows = static_cast<std::uint64_t>(std::count(used.begin(), used.end(), true));
  // Keys are unique on the one side, so that each row of it that is used stands for one key.
  use.many_keys = use.used_rows + orphans.size();
  std::vector<std::pair<Key, std::uint64_t>> ranked(orphans.begin(), orphans.end());
  std::sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) {
    return a.second != b.second ? a.second > b.second : a.first < b.first;
  });
  use.orphan_keys = ranked.size();
  for (const auto& [orphan, count] : ranked) {
    use.orphan_rows += count;
    if (use.samples.size() < samples) use.samples.push_back({text_of(from, orphan), count});
  }
  return use;
}

}  // namespace

Result<std::vector<LinkUse>> links(const Dataset& dataset, std::size_t samples) {
  return base::guarded([&]() -> Result<std::vector<LinkUse>> {
    const language::CheckedModel& model = dataset.model().checked();
    const store::Store& store = dataset.store();
    std::vector<LinkUse> uses;
    for (std::size_t i = 0; i < store.links.size(); ++i) {
      const language::LinkEnd& from = model.links[i].from;
      std::vector<const store::Column*> columns;
      for (const std::uint32_t column : from.columns) columns.push_back(&store.tables[from.table].columns[column].data);
      uses.push_back(use_of(store.links[i], columns, samples));
    }
    return uses;
  });
}

}  // namespace juniper
