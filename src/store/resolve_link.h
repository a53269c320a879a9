// Links, resolved: which row of the one side each key of the many side leads to.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

#include "store/store.h"

namespace juniper::store {

// For each row of the many side, the row of the one side whose keys have the same values, column by column; `no_row`
// (the number of rows of the one side) where a value is null or no row has them. Of equal keys the first row counts.
// The columns of a pair have one type, which is not real. Its name and where its many side stands are left to the caller.
StoredLink resolve_link(std::span<const Column* const> from, std::span<const Column* const> to);

// Sets `marks`, one for each row of the one side, to 1 where some row of the many side leads to it.
void mark_rows(LinkRows link, std::vector<std::uint8_t>& marks);

// Rows of the one side with the same keys as an earlier row, none of them null.
struct RepeatedKey {
  std::uint64_t row;    // the first of them
  std::uint64_t first;  // the row that it repeats
  std::uint64_t rows;   // how many there are
};
std::optional<RepeatedKey> repeated_key(std::span<const Column* const> to);

// Whether these columns together name each row of a table: none of them is null, and no two rows have the same values.
bool names_rows(const StoredTable& table, std::span<const std::uint32_t> columns);

}  // namespace juniper::store
