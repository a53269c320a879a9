#include "base/date_pattern.h"

#include <fmt/format.h>

#include <algorithm>

namespace juniper::base {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// The length of the run of one letter at the begin of a pattern.
std::size_t run_of(std::string_view pattern) {
  return std::min(pattern.find_first_not_of(pattern[0]), pattern.size());
}

// A number of as many digits as its length say: one letter stands for one digit or two.
std::optional<int> take_number(std::string_view& text, std::size_t length) {
  std::size_t digits = 0;
  const std::size_t most = length == 1 ? 2 : length;
  while (digits < most && digits < text.size() && is_digit(text[digits])) ++digits;
  if (digits == 0 || (length > 1 && digits != length)) return std::nullopt;
  int number = 0;
  for (std::size_t i = 0; i < digits; ++i) number = number * 10 + (text[i] - '0');
  text.remove_prefix(digits);
  return number;
}

// What stands for the date in a pattern with a time of day, and the time; nothing where there is no such time.
struct Parts {
  std::string_view date;
  std::string_view time;  // with the mark in front
};
std::optional<Parts> parts_of(std::string_view pattern) {
  for (const std::string_view time : {" HH:mm:ss", "THH:mm:ss", " HH:mm", "THH:mm"}) {
    if (pattern.ends_with(time)) return Parts{pattern.substr(0, pattern.size() - time.size()), time};
  }
  return std::nullopt;
}

}  // namespace

bool is_date_pattern(std::string_view pattern) {
  int days = 0;
  int months = 0;
  int years = 0;
  bool after_number = false;
  while (!pattern.empty()) {
    const char letter = pattern[0];
    const std::size_t length = run_of(pattern);
    if (letter == 'd' || letter == 'M' || letter == 'y') {
      if (letter == 'y' ? length != 4 : length > 2) return false;
      // Numbers that follow each other must have a known length.
      if (after_number && length == 1) return false;
      ++(letter == 'd' ? days : (letter == 'M' ? months : years));
      after_number = length == 1;
      pattern.remove_prefix(length);
      continue;
    }
    if (is_digit(letter) || (letter >= 'a' && letter <= 'z') || (letter >= 'A' && letter <= 'Z')) return false;
    after_number = false;
    pattern.remove_prefix(1);
  }
  return days == 1 && months == 1 && years == 1;
}

std::optional<std::string> respelled_date(std::string_view text, std::string_view pattern) {
  int year = 0;
  int month = 0;
  int day = 0;
  while (!pattern.empty()) {
    const char letter = pattern[0];
    if (letter != 'd' && letter != 'M' && letter != 'y') {
      if (text.empty() || text[0] != letter) return std::nullopt;
      text.remove_prefix(1);
      pattern.remove_prefix(1);
      continue;
    }
    const std::size_t length = run_of(pattern);
    const auto number = take_number(text, length);
    if (!number) return std::nullopt;
    (letter == 'd' ? day : (letter == 'M' ? month : year)) = *number;
    pattern.remove_prefix(length);
  }
  // Digits that go on are no time of day.
  if (!text.empty() && is_digit(text[0])) return std::nullopt;
  return fmt::format("{:04}-{:02}-{:02}{}", year, month, day, text);
}

bool is_datetime_pattern(std::string_view pattern) {
  const auto parts = parts_of(pattern);
  return parts && is_date_pattern(parts->date);
}

std::optional<std::string> respelled_datetime(std::string_view text, std::string_view pattern) {
  const auto parts = parts_of(pattern);
  if (!parts) return std::nullopt;
  auto spelled = respelled_date(text, parts->date);
  constexpr std::size_t date = 10;  // "2025-03-01"
  const bool fits = spelled && spelled->size() == date + parts->time.size() && (*spelled)[date] == parts->time[0];
  return fits ? spelled : std::nullopt;
}

}  // namespace juniper::base
