// Counts of distinct values by their codes.
//
// Equal values of a column have equal codes, so that codes are all that a count needs. As long as there are few groups
// and codes, each pair of a group and a code has a bit: adding a row sets one, and partial counts meet by `or`. Where
// the bits would take more than a few megabytes, or a byte for each row, the pairs that occur stand in a hash set, each
// packed into one number.
#pragma once

#include <cstdint>
#include <memory>

#include "engine/aggregate/accumulate.h"

namespace juniper::engine {

// True if pairs of a group and a code up to `null_code` fit the numbers that they are packed into.
bool counts_by_codes(std::uint64_t null_code);

// Counts the distinct codes other than `null_code`, the largest, of up to `rows` rows. It takes codes, and is not
// merged one by one.
std::unique_ptr<Accumulator> make_distinct_codes(std::uint64_t null_code, std::uint64_t rows);

}  // namespace juniper::engine
