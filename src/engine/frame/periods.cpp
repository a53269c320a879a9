#include "engine/frame/periods.h"

#include <algorithm>

#include "base/calendar.h"

namespace juniper::engine {

using base::Unit;
using language::During;
using language::Period;

namespace {

constexpr std::int64_t first_day = -719'162;  // of the year 1

bool has_months(Unit unit) {
  switch (unit) {
    case Unit::day:
    case Unit::week:
      return false;
    case Unit::month:
    case Unit::quarter:
    case Unit::year:
      return true;
  }
  return false;
}

// Whether different days, which ascend, are all days of the months that they touch.
bool are_whole_months(std::span<const std::int64_t> days) {
  for (std::size_t begin = 0; begin < days.size();) {
    const std::int64_t end = base::end_of(days[begin], Unit::month);
    if (base::start_of(days[begin], Unit::month) != days[begin]) return false;
    const auto length = static_cast<std::size_t>(end - days[begin] + 1);
    if (days.size() - begin < length || days[begin + length - 1] != end) return false;
    begin += length;
  }
  return true;
}

// The codes of the days from `first` to `last`. A key's codes are in the order of its days.
CodeRange codes_of(const store::Column& day, const DayRange& days) {
  const auto before = [&](std::int64_t limit) {
    std::uint64_t low = 0;
    std::uint64_t high = day.null_code;
    while (low < high) {
      const std::uint64_t middle = low + (high - low) / 2;
      if (day.exact_of(middle) < limit) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    return low;
  };
  return {before(days.first), before(days.last + 1)};
}

}  // namespace

DayRange period(const During& during, std::int64_t first, std::int64_t last) {
  const Unit unit = during.unit;
  switch (during.period) {
    case Period::to_date:
      return {base::start_of(last, unit), last};
    case Period::whole:
      return {base::start_of(last, unit), base::end_of(last, unit)};
    case Period::previous: {
      const std::int64_t end = base::start_of(first, unit) - 1;
      return {base::start_of(end, unit), end};
    }
    case Period::next: {
      const std::int64_t start = base::end_of(last, unit) + 1;
      return {start, base::end_of(start, unit)};
    }
    case Period::trailing: {
      // What would begin before the year 1 begins with it.
      if (base::end_of(last, unit) == last) {
        const auto start = base::moved(base::start_of(last, unit), 1 - during.count, unit);
        return {start.value_or(first_day), last};
      }
      const auto before = base::moved(last, -during.count, unit);
      return {before ? *before + 1 : first_day, last};
    }
    case Period::shift:
      break;
  }
  return {first, last};
}

std::vector<DayRange> shifted(const During& during, std::span<const std::int64_t> days) {
  const bool by_months = has_months(during.unit) && are_whole_months(days);
  std::vector<DayRange> ranges;
  for (std::size_t i = 0; i < days.size(); ++i) {
    if (by_months && i != 0 && base::start_of(days[i], Unit::month) != days[i]) continue;
    const auto moved = base::moved(days[i], during.count, during.unit);
    if (moved) ranges.push_back({*moved, by_months ? base::end_of(*moved, Unit::month) : *moved});
  }
  return ranges;
}

CodeRanges codes_of_days(const store::Column& day, std::span<const DayRange> days) {
  CodeRanges ranges;
  for (const DayRange& range : days) ranges.push_back(codes_of(day, range));
  std::sort(ranges.begin(), ranges.end(), [](const CodeRange& a, const CodeRange& b) { return a.begin < b.begin; });
  CodeRanges joined;
  for (const CodeRange& range : ranges) {
    if (range.begin == range.end) continue;
    if (!joined.empty() && range.begin <= joined.back().end) {
      joined.back().end = std::max(joined.back().end, range.end);
    } else {
      joined.push_back(range);
    }
  }
  return joined;
}

}  // namespace juniper::engine
