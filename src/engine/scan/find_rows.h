// The rows of a table that pass conditions, with the codes of keys: what is left of a pass that only looks for rows.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "engine/scan/scan.h"

namespace juniper::engine {

// All expressions are over columns of slice_row as seen from the table.
struct RowsRequest {
  language::TableIndex table = 0;
  std::vector<language::NodePtr> conditions;
  std::vector<ScanKey> keys;
  std::vector<WantedCodes> wanted;  // for each key
};

struct FoundRows {
  std::vector<std::uint32_t> rows;                // ascending
  std::vector<std::vector<std::uint64_t>> codes;  // for each key, of these rows
  bool overflow = false;                          // of a condition: what was found is of no use
};

// On up to `threads` threads. Throws as `scan` does where a question is called off.
FoundRows find_rows(const Source& source, const RowsRequest& request, unsigned threads);

}  // namespace juniper::engine
