// Aggregates over stretches of ordered things: running totals, previous values, ranks, trailing periods.
//
// What is aggregated ("items": rows of a table, or groups of them) falls into partitions, in each of which it stands in
// the order of a code. Each row of a frame asks one partition for the items whose codes lie within some ranges. The
// items and the rows are bucketed by partition and sorted within; then
//   - where all ranges begin with the first code, or all end with the last, one sweep over the items of a partition
//     serves all its rows, in the order of the other end;
//   - otherwise a binary tree of partial results is built over them, and a range is the merge of a few of its nodes.
// Cost: n log n at worst, n where the items are in order already. What is bucketed is moved there, in the order in
// which it stands in memory, so that the work within a partition stays within the caches. Partitions are shared among
// threads; each is worked on by one, so that the result does not depend on their number.
#pragma once

#include <functional>
#include <limits>
#include <memory>
#include <span>
#include <vector>

#include "engine/aggregate/accumulate.h"
#include "engine/vector/vector.h"

namespace juniper::engine {

// Codes from `begin` up to but not including `end`.
struct CodeRange {
  std::uint64_t begin = 0;
  std::uint64_t end = 0;
};
using CodeRanges = std::vector<CodeRange>;

// One end of a range that is made of a code: those before it, or those behind it.
struct Cut {
  std::uint64_t null_code = 0;  // makes an empty range
  bool below = true;            // the codes before the code
  bool including = false;       // and the code itself
  CodeRange range(std::uint64_t code) const {
    if (code == null_code) return {};
    const std::uint64_t at = code + (below == including ? 1 : 0);
    return below ? CodeRange{0, at} : CodeRange{at, null_code};
  }
};

// Which codes each row of a frame asks for: one range each, given or made of a code; or lists that rows may share.
class WantedRanges {
 public:
  explicit WantedRanges(std::vector<CodeRange> one) : one_(std::move(one)) {}
  explicit WantedRanges(std::vector<std::shared_ptr<const CodeRanges>> lists) : lists_(std::move(lists)) {}
  WantedRanges(SharedCodes codes, Cut cut) : codes_(std::move(codes)), cut_(cut) {}

  bool one_each() const { return lists_.empty(); }
  // The only range of a row.
  CodeRange one(std::size_t row) const { return codes_ ? cut_.range((*codes_)[row]) : one_[row]; }
  // The codes of which all ranges are made, if they are.
  const SharedCodes& codes() const { return codes_; }
  const Cut& cut() const { return cut_; }

  // Calls take(range) for each range of a row.
  template <class Take>
  void each(std::size_t row, const Take& take) const {
    if (one_each()) return take(one(row));
    for (const CodeRange& range : *lists_[row]) take(range);
  }
  bool has(std::size_t row, std::uint64_t code) const {
    bool found = false;
    each(row, [&](const CodeRange& range) { found = found || (code >= range.begin && code < range.end); });
    return found;
  }

 private:
  std::vector<CodeRange> one_;
  std::vector<std::shared_ptr<const CodeRanges>> lists_;
  SharedCodes codes_;
  Cut cut_;
};

struct StretchRequest {
  static constexpr std::uint32_t none = std::numeric_limits<std::uint32_t>::max();

  std::size_t partitions = 0;
  std::vector<std::uint32_t> item_partition;  // of each item; `none` for one that nobody may see
  SharedCodes item_code;
  std::uint64_t null_code = 0;               // the code of items that no range holds
  std::vector<std::uint32_t> row_partition;  // of each row of the frame; `none` for one that has no items
  const WantedRanges* wanted = nullptr;
  // What the items are: groups of `partial`, or, where that is null, rows of `inputs`.
  const Accumulator* partial = nullptr;
  std::vector<Vector> inputs;
  std::function<std::unique_ptr<Accumulator>(Merging)> fresh;  // makes an accumulator
};

// One value for each row of the frame. Uses the request's memory up.
Vector aggregate_stretches(StretchRequest request, unsigned threads);

}  // namespace juniper::engine
