// Aggregates of a column's values by their codes: sums, averages, spreads, extremes and quantiles.
//
// In layout offset a number is base + code * step, so that the sum of some numbers follows from how many they are and
// from the sum of their codes, which are added as they come from the column. And codes are in the order of the numbers:
// a quantile is found by counting how often each code occurs, the smallest value has the smallest code.
#pragma once

#include <cstdint>
#include <memory>

#include "engine/aggregate/accumulate.h"
#include "store/column.h"

namespace juniper::engine {

// True if codes of a column up to 32 bits can be summed, or counted.
bool sums_by_codes(const store::Column& column);
bool ranks_by_codes(const store::Column& column);
// True if codes of up to 32 bits are in the order of the column's values.
bool is_ordered_by_codes(const store::Column& column);

// For `sum` and `avg` over a column's numbers. It takes codes, and is not merged one by one.
std::unique_ptr<Accumulator> make_code_sum(const language::Node& aggregate, const store::Column& column);

// For `stddev`, `variance` and those of a population over a column's numbers, whose sums by code are exact. It takes
// codes, and is not merged one by one.
std::unique_ptr<Accumulator> make_code_spread(const language::Node& aggregate, const store::Column& column);

// For the smallest or largest value of a column. It takes codes, and is not merged one by one.
std::unique_ptr<Accumulator> make_code_extreme(const store::Column& column, bool least);

// For `median` and `quantile`, the value at a fraction of the way through the sorted numbers. It takes codes, and is
// not merged one by one.
std::unique_ptr<Accumulator> make_code_quantile(const store::Column& column, double fraction);

}  // namespace juniper::engine
