// One pass over a table: rows that pass the filters, grouped by codes of columns in one or several ways, aggregated.
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "engine/aggregate/accumulate.h"
#include "engine/program/program.h"
#include "engine/scan/packed_keys.h"

namespace juniper::engine {

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

// Of a key, the codes that somebody asks for, as bits; null: all. Rows with others may be left out.
using WantedCodes = std::shared_ptr<const base::PackedTable>;

// All expressions are over columns of slice_row as seen from the table.
struct ScanRequest {
  language::TableIndex table = 0;
  std::vector<language::NodePtr> filters;
  std::vector<ScanKey> keys;
  std::vector<WantedCodes> wanted;  // for the first of the keys; none: all
  // Each way of grouping the rows: the keys that make its groups, as indexes into `keys`.
  std::vector<std::vector<std::uint32_t>> groupings;
  std::vector<ScanAggregate> aggregates;  // each is computed for each grouping
  Merging merging = Merging::whole;
};

// The groups of one grouping.
struct Groups {
  KeyLayout layout;
  PackedKeys keys;  // one for each group, in no certain order
  std::vector<std::unique_ptr<Accumulator>> aggregates;
  // Make further accumulators of the kind of each.
  std::vector<std::function<std::unique_ptr<Accumulator>()>> fresh;
};

struct ScanResult {
  std::vector<Groups> groupings;
  bool filter_overflow = false;
  // How it was done: whether an `or` was taken apart, and of which tables rows stood for the keys that they determine.
  bool took_or_apart = false;
  std::vector<language::TableIndex> row_tables;
};

// Scans the table once (a live one where its rows are), on up to `threads` threads; a grouping without keys has one group, even of no rows. The result
// does not depend on the number of threads, but for the order of its groups. Needs a layout that fits for all keys
// together.
ScanResult scan(const Source& source, const ScanRequest& request, unsigned threads);

// The layout of keys together.
KeyLayout layout_of(const std::vector<ScanKey>& keys);

}  // namespace juniper::engine
