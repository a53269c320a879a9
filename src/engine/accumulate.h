// Aggregates of many groups at once.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "engine/vector.h"
#include "language/checked.h"

namespace juniper::engine {

using GroupIndex = std::uint32_t;

// One aggregate, for groups 0 to n-1. Rows are added block by block and partial accumulators merged in the order of
// their rows, so that sums of reals do not depend on the number of threads.
class Accumulator {
 public:
  // The values that an aggregate reads, one vector each; none for a count of rows. `first`, `last` and `list` read what
  // orders their rows behind their value.
  using Inputs = std::span<const Vector* const>;

  virtual ~Accumulator() = default;

  // Makes room for groups up to `count`.
  virtual void grow(std::size_t count) = 0;
  // Adds `rows[i]` of the inputs to group `groups[i]`, for all i.
  virtual void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, Inputs inputs) = 0;
  // Marks groups whose value rests on something that overflowed.
  virtual void poison(GroupIndex group) = 0;
  // Adds group i of `other`, which is of the same kind, to group `groups[i]`.
  virtual void merge(const Accumulator& other, std::span<const GroupIndex> groups) = 0;
  // Adds one group of `other` to one group. Not for those made for Merging::whole that count distinct values.
  virtual void merge_one(GroupIndex into, const Accumulator& other, GroupIndex from) = 0;
  // The values of `count` groups; the groups of `at`, where an index past the groups there are stands for no rows.
  virtual Vector result(std::span<const GroupIndex> at) const = 0;
};

// How partial results meet: all groups of two accumulators at once, or also one by one.
enum class Merging : std::uint8_t { whole, one_by_one };

// An accumulator for an aggregate node other than rank. `inputs` are the representations of what it reads.
std::unique_ptr<Accumulator> make_accumulator(const language::Node& aggregate, std::span<const Repr> inputs,
                                              Merging merging = Merging::whole);

// The values of each group in ascending order, for ranks.
class Collector {
 public:
  explicit Collector(Repr repr) : repr_(repr) {}
  void grow(std::size_t count);
  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector& values);
  void poison(GroupIndex group) { poisoned_[group] = 1; }
  void merge(const Collector& other, std::span<const GroupIndex> groups);
  // Sorts what was added. No more may be added then.
  void finish(bool dense);
  // The position of each of `values` among those of its group, from 1; a group past those there are is empty. Null has
  // no position.
  Vector positions(const Vector& values, std::span<const GroupIndex> groups, bool descending) const;

 private:
  template <class T>
  using Lists = std::vector<std::vector<T>>;
  template <class T>
  Lists<T>& lists();
  template <class T>
  const Lists<T>& lists() const {
    return const_cast<Collector*>(this)->lists<T>();
  }

  Repr repr_;
  std::size_t groups_ = 0;
  std::vector<std::uint8_t> poisoned_;
  Lists<std::int64_t> narrow_;
  Lists<int128> wide_;
  Lists<double> real_;
  Lists<std::string> text_;
};

}  // namespace juniper::engine
