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
  virtual ~Accumulator() = default;

  // Makes room for groups up to `count`.
  virtual void grow(std::size_t count) = 0;
  // Adds `rows[i]` of the values to group `groups[i]`, for all i. `values` is null for a count of rows.
  virtual void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) = 0;
  // Marks groups whose value rests on something that overflowed.
  virtual void poison(GroupIndex group) = 0;
  // Adds group i of `other`, which is of the same kind, to group `groups[i]`.
  virtual void merge(const Accumulator& other, std::span<const GroupIndex> groups) = 0;
  // The values of `count` groups; the groups of `at`, where an index past the groups there are stands for no rows.
  virtual Vector result(std::span<const GroupIndex> at) const = 0;
};

// An accumulator for an aggregate node. `repr` is that of its values.
std::unique_ptr<Accumulator> make_accumulator(const language::Node& aggregate, Repr repr);

}  // namespace juniper::engine
