// Groups that are made of the groups of a scan, each of which may become a part of several and several of which may become
// one: what rows were grouped by is not always what is asked for.
#pragma once

#include <boost/unordered/unordered_flat_map.hpp>
#include <vector>

#include "engine/scan/scan.h"

namespace juniper::engine {

class MergedGroups {
 public:
  // `from` outlives it; its aggregates are made for Merging::one_by_one.
  MergedGroups(const Groups& from, const KeyLayout& layout);

  // Makes a group a part of that with a key.
  void add(GroupIndex group, PackedKey key);
  // Adds what others made of the same groups.
  void add(MergedGroups& others);
  Groups take();

 private:
  static constexpr GroupIndex none = 0xFFFFFFFF;
  GroupIndex number(PackedKey key);
  void merge();

  const Groups& from_;
  Groups made_;
  std::vector<GroupIndex> table_;
  boost::unordered_flat_map<PackedKey, GroupIndex, HashPackedKey> numbers_;
  // What is to be merged: pairs, as many as stay in the caches.
  std::vector<GroupIndex> groups_;
  std::vector<GroupIndex> into_;
};

// The order in which the groups of a scan are to be merged: any, or that of their keys where it tells, as for sums of reals.
// It is the same on any number of threads.
std::vector<GroupIndex> merging_order(const Groups& groups);

}  // namespace juniper::engine
