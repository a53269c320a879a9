// Values that exact results can't leave: what proves that 64 bits do. Each operation says its range from those of its
// operands; one of which nothing is known can be every number.
#pragma once

#include <cstdint>
#include <span>

#include "base/exact.h"
#include "language/checked.h"

namespace juniper::engine {

// In units of the type: hundredths of a decimal(2), days of a date.
struct Range {
  int128 low = base::int128_min;
  int128 high = base::int128_max;

  bool holds(int128 value) const { return low <= value && value <= high; }
  bool fits_int64() const { return base::fits_int64(low) && base::fits_int64(high); }
};

using Ranges = std::span<const Range>;
using RangeRule = Range(const language::Node& node, Ranges operands);

namespace ranges {

// Of any value of the node's type.
RangeRule of_type;
// Arithmetic.
RangeRule sum, difference, product, negative, magnitude, same_sign, rescaled, rounded;
// One of the operands: of all, or of the values of `cases`.
RangeRule one_of, value_of_cases;
// A number between two.
template <std::int64_t low, std::int64_t high>
Range within(const language::Node&, Ranges) {
  return {low, high};
}

}  // namespace ranges

}  // namespace juniper::engine
