#include "engine/scan/merged_groups.h"

#include <algorithm>
#include <numeric>

namespace juniper::engine {

MergedGroups::MergedGroups(const Groups& from, const KeyLayout& layout) : from_(from) {
  made_.layout = layout;
  made_.keys = PackedKeys(layout.bits());
  made_.fresh = from.fresh;
  for (const auto& fresh : from.fresh) made_.aggregates.push_back(fresh());
  // They are numbered by a table where there are few keys.
  constexpr unsigned table_bits = 20;
  if (layout.bits() <= table_bits) table_.assign(std::size_t{1} << layout.bits(), none);
}

GroupIndex MergedGroups::number(PackedKey key) {
  GroupIndex& number =
      table_.empty() ? numbers_.try_emplace(key, none).first->second : table_[static_cast<std::size_t>(key)];
  if (number == none) {
    number = static_cast<GroupIndex>(made_.keys.size());
    made_.keys.push_back(key);
  }
  return number;
}

void MergedGroups::add(GroupIndex group, PackedKey key) {
  const GroupIndex into = number(key);
  if (made_.aggregates.empty()) return;
  groups_.push_back(group);
  into_.push_back(into);
  constexpr std::size_t most_pairs = 4096;
  if (groups_.size() >= most_pairs) merge();
}

void MergedGroups::merge() {
  for (std::size_t a = 0; a < made_.aggregates.size(); ++a) {
    made_.aggregates[a]->grow(made_.keys.size());
    made_.aggregates[a]->merge_pairs(*from_.aggregates[a], groups_, into_);
  }
  groups_.clear();
  into_.clear();
}

void MergedGroups::add(MergedGroups& others) {
  others.merge();
  merge();
  std::vector<GroupIndex> into(others.made_.keys.size());
  for (std::size_t i = 0; i < into.size(); ++i) into[i] = number(others.made_.keys[i]);
  for (std::size_t a = 0; a < made_.aggregates.size(); ++a) {
    made_.aggregates[a]->grow(made_.keys.size());
    made_.aggregates[a]->merge(*others.made_.aggregates[a], into);
  }
}

Groups MergedGroups::take() {
  merge();
  return std::move(made_);
}

std::vector<GroupIndex> merging_order(const Groups& groups) {
  std::vector<GroupIndex> order(groups.keys.size());
  std::iota(order.begin(), order.end(), GroupIndex{0});
  if (std::any_of(groups.aggregates.begin(), groups.aggregates.end(),
                  [](const auto& aggregate) { return aggregate->is_ordered(); })) {
    groups.keys.visit([&](const auto& keys) {
      std::sort(order.begin(), order.end(), [&](GroupIndex a, GroupIndex b) { return keys[a] < keys[b]; });
    });
  }
  return order;
}

}  // namespace juniper::engine
