// Filters over bridges. Rows of a table and rows of a bridge lead to one table, where they meet: sessions and memberships
// at cards. A *part* is a combination of keys of the bridge's rows, as the memberships in one group of cards. The table is
// scanned once, grouped by the row where it meets the bridge; each of these groups then stands for one in every part to
// which that row belongs. So a row counts once in each part, whatever the number of the bridge's rows, and what that costs
// are the pairs of rows that meet and parts, not those of the table's rows and the bridge's.
#pragma once

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cstdint>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "engine/scan/find_rows.h"
#include "engine/scan/scan.h"

namespace juniper::engine {

// The parts to which each row of a table belongs, where a bridge leads to it.
class BridgeParts {
 public:
  // Of no keys, with a part for each number up to `parts`, from pairs of a row, of `rows` that there are, and a part. The
  // same pair may stand there several times.
  using Pairs = std::vector<std::pair<std::uint32_t, std::uint32_t>>;
  BridgeParts(Pairs pairs, std::uint64_t rows, std::uint32_t parts);

  // From the rows of a bridge that pass the conditions of a request. The last of its keys is the row, of `rows` that there
  // are, in which they meet the table; the others make the parts. Needs a layout that fits for these together. Nothing
  // where a condition overflows. Throws as `scan` does where a question is called off.
  static std::optional<BridgeParts> read(const Source& source, const RowsRequest& request, std::uint64_t rows,
                                         unsigned threads);

  // How many parts there are, and rows that belong to one, each counted for each.
  std::uint32_t count() const { return count_; }
  std::size_t pairs() const { return parts_.size(); }
  // Those of a row; of none where the number is past the rows that there are, as that of no row is.
  std::span<const std::uint32_t> of(std::uint64_t row) const {
    if (row + 1 >= begins_.size()) return {};
    return std::span(parts_).subspan(begins_[row], begins_[row + 1] - begins_[row]);
  }
  // Has what `of` reads for a row on its way.
  void prefetch(std::uint64_t row) const { __builtin_prefetch(begins_.data() + std::min(row, begins_.size() - 1)); }
  // The code of a part's k-th key.
  std::uint64_t code(std::uint32_t part, std::size_t k) const { return layout_.code(keys_[part], k); }
  // The part whose k-th key has the code code_of(k); `none` where no row of the bridge has them.
  static constexpr std::uint32_t none = 0xFFFFFFFF;
  template <class CodeOf>
  std::uint32_t find(const CodeOf& code_of) const {
    PackedKey key = 0;
    for (std::size_t k = 0; k < layout_.columns(); ++k) {
      const std::uint64_t code = code_of(k);
      if (layout_.width(k) < 64 && code >> layout_.width(k) != 0) return none;
      key = layout_.with(key, k, code);
    }
    const auto at = numbers_.find(key);
    return at == numbers_.end() ? none : at->second;
  }
  // The rows that belong to a part, as bits, where these are at most half of all; else null.
  WantedCodes wanted_rows() const;

 private:
  BridgeParts() = default;
  template <class Key>
  bool read_keys(const Source& source, const RowsRequest& request, std::uint64_t rows, unsigned threads);

  std::vector<std::uint64_t> begins_;  // one for each row, and one more
  std::vector<std::uint32_t> parts_;
  std::uint32_t count_ = 0;
  KeyLayout layout_;
  PackedKeys keys_;  // of each part
  boost::unordered_flat_map<PackedKey, std::uint32_t, HashPackedKey> numbers_;
};

// Groups by rows where a bridge is met, their key at `column`, as groups by parts of it: in the place of a row's code that
// of each part to which it belongs. Groups whose row belongs to none are gone. Aggregates are made for
// Merging::one_by_one; they meet in the order of the keys, so that sums of reals are the same on any number of threads.
Groups by_parts(const Groups& groups, std::size_t column, const BridgeParts& parts, unsigned threads);

// The same for rows that were found: each once for each part to which its row of the key at `column` belongs, in their
// order.
FoundRows by_parts(const FoundRows& found, std::size_t column, const BridgeParts& parts);

}  // namespace juniper::engine
