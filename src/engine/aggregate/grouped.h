// What accumulators share: their groups, and loops over added rows.
#pragma once

#include <algorithm>
#include <array>
#include <type_traits>
#include <utility>
#include <vector>

#include "base/exact.h"
#include "base/growing_vector.h"
#include "base/prefetch.h"
#include "engine/aggregate/accumulate.h"

namespace juniper::engine {

// What all accumulators do alike: which groups are poisoned, and the loops over groups. An accumulator, named as
// `Derived`, tells how a group meets another, merge_group(into, from, index of into), and what its value is,
// finish(group, out, row).
template <class Derived, class Group>
class Grouped : public Accumulator {
 public:
  void grow(std::size_t count) override {
    if (count > groups_.size()) {
      groups_.resize(count);
      poisoned_.resize(count, 0);
    }
  }
  void poison(GroupIndex group) override { poisoned_[group] = 1; }
  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    const auto& from = static_cast<const Grouped&>(other);
    base::for_each_ahead(
        from.groups_.size(), [&](std::size_t i) { return groups_.data() + groups[i]; },
        [&](std::size_t i) {
          poisoned_[groups[i]] = poisoned_[groups[i]] | from.poisoned_[i];
          derived().merge_group(groups_[groups[i]], from.groups_[i], groups[i]);
        });
  }
  void merge_one(GroupIndex into, const Accumulator& other, GroupIndex group) override {
    const auto& from = static_cast<const Grouped&>(other);
    poisoned_[into] = poisoned_[into] | from.poisoned_[group];
    derived().merge_group(groups_[into], from.groups_[group], into);
  }
  void merge_pairs(const Accumulator& other, std::span<const GroupIndex> from,
                   std::span<const GroupIndex> into) override {
    const auto& theirs = static_cast<const Grouped&>(other);
    base::for_each_ahead(
        from.size(), [&](std::size_t i) { return theirs.groups_.data() + from[i]; },
        [&](std::size_t i) {
          poisoned_[into[i]] = poisoned_[into[i]] | theirs.poisoned_[from[i]];
          derived().merge_group(groups_[into[i]], theirs.groups_[from[i]], into[i]);
        });
  }
  bool can_keep() const override { return true; }
  void keep(std::span<const GroupIndex> groups) override {
    for (std::size_t i = 0; i < groups.size(); ++i) {
      if (groups[i] == i) continue;
      groups_[i] = std::move(groups_[groups[i]]);
      poisoned_[i] = poisoned_[groups[i]];
    }
    groups_.resize(groups.size());
    poisoned_.resize(groups.size());
  }
  void put(GroupIndex group, Vector& out, std::size_t row) const override {
    if (group >= groups_.size()) {
      derived().finish(Group{}, out, row);
    } else if (poisoned_[group] != 0) {
      out.state[row] = State::overflow;
    } else {
      derived().finish(groups_[group], out, row);
    }
  }
  void put_all(std::span<const GroupIndex> at, Vector& out) const override {
    base::for_each_ahead(
        at.size(), [&](std::size_t i) { return groups_.data() + std::min<std::size_t>(at[i], groups_.size()); },
        [&](std::size_t i) { derived().put(at[i], out, i); });
  }

 protected:
  // Calls take(group, row, its index) for each row that holds a value.
  template <class Take>
  void each_value(const Added& added, const Vector& values, const Take& take) {
    if (values.all_values) return each_row(added, take);
    const State* const states = values.state.data();
    for (std::size_t i = 0; i < added.count; ++i) {
      const std::uint32_t row = added.row(i);
      const GroupIndex group = added.group(i);
      if (states[row] == State::value) {
        take(groups_[group], row, group);
      } else if (states[row] == State::overflow) {
        poisoned_[group] = 1;
      }
    }
  }
  // The same for every row. One group is worked on where it is at hand.
  template <class Take>
  void each_row(const Added& added, const Take& take) {
    if (added.count == 0) return;
    const GroupIndex* const of = added.groups;
    Group* const groups = groups_.data();
    if (added.one_group) {
      Group group = std::move(groups[of[0]]);
      for (std::size_t i = 0; i < added.count; ++i) take(group, added.row(i), of[0]);
      groups[of[0]] = std::move(group);
    } else if (groups_.size() * sizeof(Group) > base::large_table_bytes) {
      base::for_each_ahead(
          added.count, [&](std::size_t i) { return groups + of[i]; },
          [&](std::size_t i) { take(groups[of[i]], added.row(i), of[i]); });
    } else if (added.rows == nullptr) {
      for (std::size_t i = 0; i < added.count; ++i) take(groups[of[i]], static_cast<std::uint32_t>(i), of[i]);
    } else {
      for (std::size_t i = 0; i < added.count; ++i) take(groups[of[i]], added.rows[i], of[i]);
    }
  }

  // Adds a number to each row's group where there are few of them: neighbours that belong to one group would wait for
  // each other, so that each of four in a row has its own sums. `number_of(i)` gives that of the i-th row; `take(group,
  // sum)` takes the sums.
  template <class NumberOf, class Take>
  void add_to_few(const Added& added, const NumberOf& number_of, const Take& take) {
    constexpr std::size_t ways = 4;
    std::array<std::array<std::uint64_t, Added::few_groups>, ways> sums;
    const std::size_t groups = groups_.size();
    for (auto& way : sums) std::fill_n(way.begin(), groups, 0);
    std::size_t i = 0;
    for (; i + ways <= added.count; i += ways) {
      for (std::size_t way = 0; way < ways; ++way) sums[way][added.groups[i + way]] += number_of(i + way);
    }
    for (; i < added.count; ++i) sums[0][added.groups[i]] += number_of(i);
    for (std::size_t g = 0; g < groups; ++g) take(groups_[g], sums[0][g] + sums[1][g] + sums[2][g] + sums[3][g]);
  }

  template <class T>
  using VectorOf = std::conditional_t<std::is_trivially_copyable_v<T>, base::GrowingVector<T>, std::vector<T>>;
  VectorOf<Group> groups_;
  VectorOf<std::uint8_t> poisoned_;

 private:
  Derived& derived() { return static_cast<Derived&>(*this); }
  const Derived& derived() const { return static_cast<const Derived&>(*this); }
};

// The result of a sum or an average of exact numbers.
inline void finish_sum(int128 sum, bool fits, std::uint64_t count, Type type, bool average, Vector& out,
                       std::size_t row) {
  if (count == 0) {
    out.state[row] = State::null;
  } else if (!fits || (type.kind == TypeKind::integer && !average && !base::fits_int64(sum))) {
    out.state[row] = State::overflow;
  } else if (!average) {
    out.wide[row] = sum;
  } else {
    int128 scaled = 0;
    out.real[row] = __builtin_mul_overflow(static_cast<int128>(count), base::power_of_ten(type.scale), &scaled)
                        ? base::to_real(sum, type.scale) / static_cast<double>(count)
                        : static_cast<double>(sum) / static_cast<double>(scaled);
  }
}

}  // namespace juniper::engine
