// The days that `during` moves to, and where a calendar has them.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "engine/frame/stretches.h"
#include "language/checked.h"
#include "store/column.h"

namespace juniper::engine {

struct DayRange {
  std::int64_t first;
  std::int64_t last;
};

// Of a period other than a shift, for a slice with days from `first` to `last`.
DayRange period(const language::During& during, std::int64_t first, std::int64_t last);

// Of a shift, for a slice with these days, which ascend: where they are all days of the months that they touch and the
// unit is a month or longer, all days of the months that these move to; else each day moved by itself. In the order in
// which they came; they may overlap.
std::vector<DayRange> shifted(const language::During& during, std::span<const std::int64_t> days);

// The codes of a calendar's day, a key, for days in any order.
CodeRanges codes_of_days(const store::Column& day, std::span<const DayRange> days);

}  // namespace juniper::engine
