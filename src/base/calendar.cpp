#include "base/calendar.h"

#include <fmt/format.h>

#include <algorithm>

namespace juniper::base {

namespace {

// Reads exactly `digits` decimal digits at the front of `text` and takes them off.
std::optional<int> take_digits(std::string_view& text, std::size_t digits) {
  if (text.size() < digits) return std::nullopt;
  int value = 0;
  for (std::size_t i = 0; i < digits; ++i) {
    if (text[i] < '0' || text[i] > '9') return std::nullopt;
    value = value * 10 + (text[i] - '0');
  }
  text.remove_prefix(digits);
  return value;
}

bool take(std::string_view& text, char c) {
  if (text.empty() || text.front() != c) return false;
  text.remove_prefix(1);
  return true;
}

std::optional<std::int64_t> take_date(std::string_view& text) {
  const auto year = take_digits(text, 4);
  if (!year || !take(text, '-')) return std::nullopt;
  const auto month = take_digits(text, 2);
  if (!month || !take(text, '-')) return std::nullopt;
  const auto day = take_digits(text, 2);
  if (!day || *year < first_year) return std::nullopt;
  const std::chrono::year_month_day civil{std::chrono::year(*year), std::chrono::month(static_cast<unsigned>(*month)),
                                          std::chrono::day(static_cast<unsigned>(*day))};
  if (!civil.ok()) return std::nullopt;
  return std::chrono::sys_days(civil).time_since_epoch().count();
}

std::optional<std::int64_t> take_time(std::string_view& text) {
  const auto hour = take_digits(text, 2);
  if (!hour || *hour > 23 || !take(text, ':')) return std::nullopt;
  const auto minute = take_digits(text, 2);
  if (!minute || *minute > 59) return std::nullopt;
  std::int64_t seconds = (*hour * 60 + *minute) * 60;
  std::int64_t micros = 0;
  if (take(text, ':')) {
    const auto second = take_digits(text, 2);
    if (!second || *second > 59) return std::nullopt;
    seconds += *second;
    if (take(text, '.')) {
      if (text.empty() || text.size() > 6) return std::nullopt;
      const std::size_t digits = text.size();
      const auto fraction = take_digits(text, digits);
      if (!fraction) return std::nullopt;
      micros = *fraction;
      for (std::size_t i = digits; i < 6; ++i) micros *= 10;
    }
  }
  return seconds * 1'000'000 + micros;
}

}  // namespace

std::int64_t days_from_civil(int year, unsigned month, unsigned day) {
  return std::chrono::sys_days(
             std::chrono::year_month_day(std::chrono::year(year), std::chrono::month(month), std::chrono::day(day)))
      .time_since_epoch()
      .count();
}

std::chrono::year_month_day civil_from_days(std::int64_t days) {
  return std::chrono::year_month_day(std::chrono::sys_days(std::chrono::days(days)));
}

std::optional<std::int64_t> parse_date(std::string_view text) {
  const auto days = take_date(text);
  return text.empty() ? days : std::nullopt;
}

std::optional<std::int64_t> parse_datetime(std::string_view text) {
  const auto days = take_date(text);
  if (!days || !(take(text, ' ') || take(text, 'T'))) return std::nullopt;
  const auto time = take_time(text);
  if (!time || !text.empty()) return std::nullopt;
  return *days * microseconds_per_day + *time;
}

std::optional<std::int64_t> parse_time(std::string_view text) {
  const auto time = take_time(text);
  return text.empty() ? time : std::nullopt;
}

std::string date_text(std::int64_t days) {
  const auto civil = civil_from_days(days);
  return fmt::format("{:04}-{:02}-{:02}", static_cast<int>(civil.year()), static_cast<unsigned>(civil.month()),
                     static_cast<unsigned>(civil.day()));
}

std::string time_text(std::int64_t microseconds) {
  const std::int64_t seconds = microseconds / 1'000'000;
  std::string text = fmt::format("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
  if (const std::int64_t fraction = microseconds % 1'000'000; fraction != 0) {
    text += fmt::format(".{:06}", fraction);
    while (text.back() == '0') text.pop_back();
  }
  return text;
}

std::string datetime_text(std::int64_t microseconds) {
  const std::int64_t days = floor_divide(microseconds, microseconds_per_day);
  return date_text(days) + " " + time_text(microseconds - days * microseconds_per_day);
}

std::int64_t add_months(std::int64_t days, std::int64_t months) {
  const auto civil = civil_from_days(days);
  const std::int64_t index = static_cast<int>(civil.year()) * 12LL + static_cast<unsigned>(civil.month()) - 1 + months;
  const int year = static_cast<int>(floor_divide(index, 12));
  const auto month = static_cast<unsigned>(index - year * 12LL) + 1;
  const std::chrono::year_month_day_last last{std::chrono::year(year),
                                              std::chrono::month_day_last{std::chrono::month(month)}};
  return days_from_civil(year, month, std::min(static_cast<unsigned>(civil.day()), static_cast<unsigned>(last.day())));
}

namespace {

std::int64_t months_since_year_0(std::int64_t days) {
  const auto civil = civil_from_days(days);
  return static_cast<int>(civil.year()) * 12LL + static_cast<unsigned>(civil.month()) - 1;
}

// Whole spans of `months` months from `from` to `to`, and the part of the span that is under way.
double spans_between(std::int64_t from, std::int64_t to, std::int64_t months) {
  if (to < from) return -spans_between(to, from, months);
  std::int64_t spans = (months_since_year_0(to) - months_since_year_0(from)) / months;
  if (add_months(from, spans * months) > to) --spans;
  const std::int64_t last = add_months(from, spans * months);
  const std::int64_t next = add_months(from, (spans + 1) * months);
  return static_cast<double>(spans) + static_cast<double>(to - last) / static_cast<double>(next - last);
}

}  // namespace

std::int64_t start_of(std::int64_t days, Unit unit) {
  if (unit == Unit::day) return days;
  if (unit == Unit::week) return floor_divide(days + 3, 7) * 7 - 3;  // 1969-12-29 was a Monday
  const auto civil = civil_from_days(days);
  unsigned month = static_cast<unsigned>(civil.month());
  if (unit == Unit::quarter) month = (month - 1) / 3 * 3 + 1;
  if (unit == Unit::year) month = 1;
  return days_from_civil(static_cast<int>(civil.year()), month, 1);
}

std::int64_t end_of(std::int64_t days, Unit unit) {
  const std::int64_t start = start_of(days, unit);
  switch (unit) {
    case Unit::day:
      return start;
    case Unit::week:
      return start + 6;
    case Unit::month:
      return add_months(start, 1) - 1;
    case Unit::quarter:
      return add_months(start, 3) - 1;
    case Unit::year:
      return add_months(start, 12) - 1;
  }
  return start;
}

std::optional<std::int64_t> within_years(std::int64_t days) {
  static const std::int64_t first = days_from_civil(first_year, 1, 1);
  static const std::int64_t last = days_from_civil(last_year, 12, 31);
  return days >= first && days <= last ? std::optional(days) : std::nullopt;
}

std::optional<std::int64_t> moved(std::int64_t days, std::int64_t count, Unit unit) {
  constexpr std::int64_t far = 4'000'000;  // more days than the calendar has
  if (count > far || count < -far) return std::nullopt;
  if (unit == Unit::day || unit == Unit::week) return within_years(days + count * (unit == Unit::week ? 7 : 1));
  const std::int64_t months = count * (unit == Unit::month ? 1 : (unit == Unit::quarter ? 3 : 12));
  const std::int64_t year = floor_divide(months_since_year_0(days) + months, 12);
  if (year < first_year || year > last_year) return std::nullopt;
  return add_months(days, months);
}

double months_between(std::int64_t from, std::int64_t to) {
  return spans_between(from, to, 1);
}

double years_between(std::int64_t from, std::int64_t to) {
  return spans_between(from, to, 12);
}

}  // namespace juniper::base
