// Aggregates of many groups at once.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "engine/vector/vector.h"
#include "language/checked.h"

namespace juniper::engine {

using GroupIndex = std::uint32_t;

// Rows that are added to groups.
struct Added {
  std::size_t count = 0;
  const GroupIndex* groups = nullptr;   // of each row, or the one of all
  const std::uint32_t* rows = nullptr;  // null: the rows are first to first + count - 1
  bool one_group = false;
  // How many rows each group has, where there are up to `few_groups`, and the rows are 0 to count - 1; else null.
  const std::uint32_t* rows_of_group = nullptr;
  static constexpr std::size_t few_groups = 256;
  std::uint32_t first = 0;  // other than 0 for one group alone

  std::uint32_t row(std::size_t i) const { return rows == nullptr ? first + static_cast<std::uint32_t>(i) : rows[i]; }
  GroupIndex group(std::size_t i) const { return one_group ? groups[0] : groups[i]; }
};

// One aggregate, for groups 0 to n-1. Rows are added block by block and partial accumulators merged in the order of
// their rows, so that sums of reals do not depend on the number of threads.
class Accumulator {
 public:
  // The values that an aggregate reads, one vector each; none for a count of rows. `first`, `last` and `list` read the
  // codes that order their rows behind their value.
  using Inputs = std::span<const Vector* const>;

  virtual ~Accumulator() = default;

  // Makes room for groups up to `count`.
  virtual void grow(std::size_t count) = 0;
  // Adds rows of the inputs to their groups.
  virtual void add(const Added& added, Inputs inputs);
  // The same with codes of up to 32 bits, for those that are made for codes.
  virtual void add_codes(const Added& added, const std::uint32_t* codes);
  // True if the result depends on the order in which rows are added, as sums of reals do.
  virtual bool is_ordered() const { return false; }
  // Marks groups whose value rests on something that overflowed.
  virtual void poison(GroupIndex group) = 0;
  // Adds group i of `other`, which is of the same kind, to group `groups[i]`.
  virtual void merge(const Accumulator& other, std::span<const GroupIndex> groups) = 0;
  // Adds one group of `other` to one group. Not for those made for codes, nor for those made for Merging::whole that
  // count distinct values.
  virtual void merge_one(GroupIndex into, const Accumulator& other, GroupIndex from);
  // The same for many pairs, one after the other: group from[i] of `other` to group into[i].
  virtual void merge_pairs(const Accumulator& other, std::span<const GroupIndex> from,
                           std::span<const GroupIndex> into);
  // Keeps some groups, in ascending order: the i-th of `groups` becomes group i. For those that can tell groups apart
  // by their place alone.
  virtual bool can_keep() const { return false; }
  virtual void keep(std::span<const GroupIndex> groups);
  // The representation of results.
  virtual Repr repr() const = 0;
  // How many rows each group has, where that is counted anyway: for row counts, and where counts_rows.
  virtual std::uint64_t rows_of(GroupIndex group) const;
  virtual bool counts_rows() const { return false; }
  // Puts the value of a group into `out`, which is of that representation; an index past the groups that are there
  // stands for no rows.
  virtual void put(GroupIndex group, Vector& out, std::size_t row) const = 0;
  // The same for several groups: that of the i-th in row i.
  virtual void put_all(std::span<const GroupIndex> at, Vector& out) const;
  // The values of the groups of `at`.
  Vector result(std::span<const GroupIndex> at) const;
};

// How partial results meet: all groups of two accumulators at once, or also one by one.
enum class Merging : std::uint8_t { whole, one_by_one };

// What rows are ordered by: codes in the order of what they stand for, as narrow numbers.
struct OrderKey {
  std::uint64_t null_code = 0;  // the largest code; nulls come last in both directions
  bool descending = false;
  bool needed = false;  // rows where it is null don't count
};

// An accumulator for an aggregate node other than rank. `inputs` are the representations of what it reads, `order`
// tells of those that order its rows, the most important first.
std::unique_ptr<Accumulator> make_accumulator(const language::Node& aggregate, std::span<const Repr> inputs,
                                              Merging merging, std::span<const OrderKey> order);

// A count of rows, which tells rows_of.
std::unique_ptr<Accumulator> make_row_count();

// A count of rows that another accumulator has, which counts them and outlives it: nothing needs to be added to it.
std::unique_ptr<Accumulator> make_rows_of(const Accumulator& other);

// One for a sum or an average of exact numbers in narrow vectors, whose partial sums are known to fit 64 bits. It meets
// others of its kind as a whole.
std::unique_ptr<Accumulator> make_narrow_sum(const language::Node& aggregate);

}  // namespace juniper::engine
