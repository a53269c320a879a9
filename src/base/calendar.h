// Days, datetimes and times of day as counts, on the proleptic Gregorian calendar of <chrono>.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/unit.h"

namespace juniper::base {

inline constexpr std::int64_t microseconds_per_day = 86'400'000'000;
// The range of dates: year 1 to 9999, which ISO 8601 writes with four digits.
inline constexpr int first_year = 1;
inline constexpr int last_year = 9999;

std::int64_t days_from_civil(int year, unsigned month, unsigned day);
std::chrono::year_month_day civil_from_days(std::int64_t days);

// "2025-03-01", "2025-03-01 08:30:00[.123456]" (or with a T), "08:30:00[.123456]" or "08:30"; nothing when the
// text is anything else or names a day that does not exist.
std::optional<std::int64_t> parse_date(std::string_view text);
std::optional<std::int64_t> parse_datetime(std::string_view text);
std::optional<std::int64_t> parse_time(std::string_view text);

std::string date_text(std::int64_t days);
std::string datetime_text(std::int64_t microseconds);  // the fraction is left out when it is zero
std::string time_text(std::int64_t microseconds);

// Moves by whole months; a day past the end of the month reached becomes its last day.
std::int64_t add_months(std::int64_t days, std::int64_t months);

// The first and the last day of the unit that holds a day. Weeks begin on Monday.
std::int64_t start_of(std::int64_t days, Unit unit);
std::int64_t end_of(std::int64_t days, Unit unit);

// The day, or nothing where it lies outside of the years 1 to 9999, as the end of a week may.
std::optional<std::int64_t> within_years(std::int64_t days);

// Moves by whole units, clipped to the month's end as add_months does; nothing when that leaves the years 1 to 9999.
std::optional<std::int64_t> moved(std::int64_t days, std::int64_t count, Unit unit);

// Whole months from `from` to `to`, plus the days since the last such day over the days to the next.
double months_between(std::int64_t from, std::int64_t to);

// Whole years from `from` to `to`, plus the days since the last anniversary over the days of that year. An
// anniversary of 29 February falls on 28 February in common years (as add_months clips it).
double years_between(std::int64_t from, std::int64_t to);

// Rounds towards minus infinity.
constexpr std::int64_t floor_divide(std::int64_t a, std::int64_t b) {
  return a / b - ((a % b != 0 && (a % b < 0) != (b < 0)) ? 1 : 0);
}

}  // namespace juniper::base
