// Links as dense row numbers.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <utility>

#include "store/store.h"

namespace juniper::loading {

// For each row of the many side, the row of the one side whose keys have the same values, column by column; `no_row`
// (the number of rows of the one side) where a value is null or no row has them. Of equal keys the first row counts.
// The columns of a pair have one type, which is not real.
store::StoredLink resolve_link(std::span<const store::Column* const> from, std::span<const store::Column* const> to);

// Two rows of the one side with the same keys, none of them null: the first that repeats an earlier one, and that one.
std::optional<std::pair<std::uint64_t, std::uint64_t>> repeated_key(std::span<const store::Column* const> to);

}  // namespace juniper::loading
