// Aggregates that compare values with each other: the smallest, the largest, how many distinct ones.
#include <xxhash.h>

#include <boost/unordered/unordered_flat_set.hpp>
#include <cmath>
#include <optional>
#include <set>

#include "engine/aggregate/accumulate_parts.h"
#include "engine/aggregate/grouped.h"

namespace juniper::engine {

namespace {

template <class T>
class Extreme final : public Grouped<Extreme<T>, std::optional<T>> {
 public:
  Extreme(Repr repr, bool least) : repr_(repr), least_(least) {}

  // Of zeros with different signs, which are equal, the first stands.
  bool is_ordered() const override { return std::is_same_v<T, double>; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector* const values = inputs[0];
    const auto& column = values->of<Seen<T>>();
    this->each_value(added, *values, [&](std::optional<T>& best, std::uint32_t row, GroupIndex) {
      if (!best || (least_ ? column[row] < *best : *best < column[row])) best = T(column[row]);
    });
  }
  Repr repr() const override { return repr_; }
  void merge_group(std::optional<T>& into, const std::optional<T>& from, GroupIndex) {
    if (from && (!into || (least_ ? *from < *into : *into < *from))) into = from;
  }
  void finish(const std::optional<T>& best, Vector& out, std::size_t row) const {
    if (!best) {
      out.state[row] = State::null;
    } else if constexpr (std::is_same_v<T, std::string>) {
      out.text[row] = out.owned.emplace_back(*best);
    } else {
      out.of<T>()[row] = *best;
    }
  }

 private:
  Repr repr_;
  bool least_;
};

template <class T>
class CountDistinct final : public Grouped<CountDistinct<T>, std::uint64_t> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector* const values = inputs[0];
    const auto& column = values->of<Seen<T>>();
    this->each_value(added, *values, [&](std::uint64_t& count, std::uint32_t row, GroupIndex group) {
      if (seen_.emplace(group, T(column[row])).second) ++count;
    });
  }
  bool can_keep() const override { return false; }
  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    CountDistinct::Grouped::merge(other, groups);
    for (const auto& [group, value] : static_cast<const CountDistinct&>(other).seen_) {
      if (seen_.emplace(groups[group], value).second) ++this->groups_[groups[group]];
    }
  }
  Repr repr() const override { return Repr::narrow; }
  void merge_group(std::uint64_t&, const std::uint64_t&, GroupIndex) {}  // `merge` counts what is new
  void finish(const std::uint64_t& count, Vector& out, std::size_t row) const {
    out.narrow[row] = static_cast<std::int64_t>(count);
  }

 private:
  struct Hash {
    std::size_t operator()(const std::pair<GroupIndex, T>& key) const {
      if constexpr (std::is_same_v<T, std::string>) {
        return XXH3_64bits_withSeed(key.second.data(), key.second.size(), key.first);
      } else {
        return XXH3_64bits_withSeed(&key.second, sizeof(T), key.first);
      }
    }
  };

  boost::unordered_flat_set<std::pair<GroupIndex, T>, Hash> seen_;
};

// The same with a set for each group, which can be merged one by one.
template <class T>
class DistinctSets final : public Grouped<DistinctSets<T>, std::set<T>> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const auto& column = inputs[0]->of<Seen<T>>();
    this->each_value(added, *inputs[0],
                     [&](std::set<T>& seen, std::uint32_t row, GroupIndex) { seen.insert(T(column[row])); });
  }
  Repr repr() const override { return Repr::narrow; }
  void merge_group(std::set<T>& into, const std::set<T>& from, GroupIndex) { into.insert(from.begin(), from.end()); }
  void finish(const std::set<T>& seen, Vector& out, std::size_t row) const {
    out.narrow[row] = static_cast<std::int64_t>(seen.size());
  }
};

}  // namespace

std::unique_ptr<Accumulator> make_extreme(Repr repr, bool least) {
  return by_repr<Extreme>(repr, repr, least);
}

std::unique_ptr<Accumulator> make_count_distinct(Repr repr, Merging merging) {
  return merging == Merging::whole ? by_repr<CountDistinct>(repr) : by_repr<DistinctSets>(repr);
}

}  // namespace juniper::engine
