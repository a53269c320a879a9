// One pass over a table: rows that pass the filters, grouped by codes of columns in one or several ways, aggregated.
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "engine/accumulate.h"
#include "engine/program.h"

namespace juniper::engine {

// A group's key: the codes of its columns, packed into one number.
__extension__ using PackedKey = unsigned __int128;

struct HashPackedKey {
  std::size_t operator()(PackedKey key) const;
};

// How the codes of several columns share a PackedKey.
class KeyLayout {
 public:
  // `null_codes` are the largest codes of the columns. `fits` is false if they need more than 128 bits.
  explicit KeyLayout(const std::vector<std::uint64_t>& null_codes);
  bool fits() const { return bits_ <= 128; }
  unsigned bits() const { return bits_; }
  std::size_t columns() const { return widths_.size(); }
  unsigned width(std::size_t column) const { return widths_[column]; }
  unsigned shift(std::size_t column) const { return shifts_[column]; }
  PackedKey with(PackedKey key, std::size_t column, std::uint64_t code) const {
    if (widths_[column] == 0) return key;  // its place may be past the end
    return key | static_cast<PackedKey>(code) << shifts_[column];
  }
  std::uint64_t code(PackedKey key, std::size_t column) const {
    if (widths_[column] == 0) return 0;
    const auto code = static_cast<std::uint64_t>(key >> shifts_[column]);
    return widths_[column] == 64 ? code : code & ((std::uint64_t{1} << widths_[column]) - 1);
  }

 private:
  std::vector<unsigned> widths_;
  std::vector<unsigned> shifts_;
  unsigned bits_ = 0;
};

// What an aggregate's rows are ordered by.
struct ScanOrder {
  ScanKey key;
  bool descending = false;
  bool needed = false;
};

// An aggregate over the rows of the table: what it reads, and the rows that it goes over (null: all).
struct ScanAggregate {
  language::NodePtr node;
  std::vector<language::NodePtr> values;
  std::vector<ScanOrder> order;
  language::NodePtr where;

  std::vector<OrderKey> order_keys() const;
};

// All expressions are over columns of slice_row as seen from the table.
struct ScanRequest {
  language::TableIndex table = 0;
  std::vector<language::NodePtr> filters;
  std::vector<ScanKey> keys;
  // Each way of grouping the rows: the keys that make its groups, as indexes into `keys`.
  std::vector<std::vector<std::uint32_t>> groupings;
  std::vector<ScanAggregate> aggregates;  // each is computed for each grouping
  Merging merging = Merging::whole;
};

// The groups of one grouping.
struct Groups {
  KeyLayout layout;
  std::vector<PackedKey> keys;  // one for each group, in no certain order
  std::vector<std::unique_ptr<Accumulator>> aggregates;
  // Make further accumulators of the kind of each.
  std::vector<std::function<std::unique_ptr<Accumulator>()>> fresh;
};

struct ScanResult {
  std::vector<Groups> groupings;
  bool filter_overflow = false;
};

// Scans the table once, on up to `threads` threads; a grouping without keys has one group, even of no rows. The result
// does not depend on the number of threads, but for the order of its groups. Needs a layout that fits for all keys
// together.
ScanResult scan(const Source& source, const ScanRequest& request, unsigned threads);

// The layout of keys together.
KeyLayout layout_of(const std::vector<ScanKey>& keys);

}  // namespace juniper::engine
