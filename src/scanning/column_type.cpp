#include "scanning/column_type.h"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "base/calendar.h"
#include "base/exact.h"
#include "base/shown_text.h"
#include "source/cell.h"

namespace juniper::scanning {

namespace {

// "-12.50" as digits before and behind the point; nothing for anything else.
struct Digits {
  unsigned whole = 0;
  unsigned behind = 0;
  bool leading_zero = false;
};
std::optional<Digits> digits_of(std::string_view text) {
  Digits digits;
  if (text.starts_with('-')) text.remove_prefix(1);
  const std::size_t point = text.find('.');
  const std::string_view whole = text.substr(0, point);
  const std::string_view behind = point == std::string_view::npos ? std::string_view() : text.substr(point + 1);
  const auto all_digits = [](std::string_view part) {
    return !part.empty() && std::all_of(part.begin(), part.end(), [](char c) { return c >= '0' && c <= '9'; });
  };
  if (!all_digits(whole) || (point != std::string_view::npos && !all_digits(behind))) return std::nullopt;
  digits.whole = static_cast<unsigned>(whole.size());
  digits.behind = static_cast<unsigned>(behind.size());
  digits.leading_zero = whole.size() > 1 && whole[0] == '0';
  return digits;
}

std::string_view in_words(TypeKind kind) {
  switch (kind) {
    case TypeKind::boolean:
      return "true or false";
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::real:
      return "a number";
    case TypeKind::date:
      return "a date";
    case TypeKind::datetime:
      return "a date with a time";
    case TypeKind::time:
      return "a time";
    case TypeKind::text:
      break;
  }
  return "a text";
}

constexpr unsigned most_digits = 18;  // that every number of 64 bits can hold

bool is_too_long(const std::optional<Digits>& digits, std::string_view text) {
  if (!digits || digits->behind > 0 || digits->whole <= most_digits) return false;
  const auto value = parse_value(text, {TypeKind::integer, 0});
  return !value || !base::fits_int64(value->exact());
}

// The digits of a number as it is written, but for zeros before the first and after the last.
std::string significant_digits(std::string_view number) {
  std::string digits;
  for (const char c : number.substr(0, number.find_first_of("eE"))) {
    if (c >= '0' && c <= '9' && (c != '0' || !digits.empty())) digits += c;
  }
  digits.erase(digits.find_last_not_of('0') + 1);
  return digits;
}

// Whether the nearest real, written as short as it can be, is the number that was written.
bool is_kept_by_real(std::string_view number) {
  constexpr std::size_t always_kept = std::numeric_limits<double>::digits10;
  if (number.size() <= always_kept) return true;
  const std::string digits = significant_digits(number);
  if (digits.size() <= always_kept) return true;
  const auto value = parse_value(std::string(number), {TypeKind::real, 0});
  return value && significant_digits(fmt::format("{}", value->real())) == digits;
}

}  // namespace

bool TypeFinder::take_number(std::string_view text, std::uint64_t line) {
  if (lost_digits_.empty() && !is_kept_by_real(text))
    lost_digits_ = fmt::format("not every digit of \"{}\" in line {} is kept", base::shortened(text, 30), line);
  if (const auto digits = digits_of(text)) {
    if (digits->leading_zero) return false;
    // A whole number is a name rather than a measure, once it is so long: what is not exact takes several for one.
    if (kind_ != TypeKind::real && is_too_long(digits, text)) return false;
    if (digits->behind == 0 && scale_ == 0 && kind_ != TypeKind::real) {
      whole_digits_ = std::max(whole_digits_, digits->whole);
      kind_ = TypeKind::integer;
      return true;
    }
    whole_digits_ = std::max(whole_digits_, digits->whole);
    scale_ = std::max(scale_, digits->behind);
    const bool exact = kind_ != TypeKind::real && whole_digits_ + scale_ <= most_digits;
    kind_ = !exact ? TypeKind::real : (scale_ == 0 ? TypeKind::integer : TypeKind::decimal);
    return true;
  }
  if (!parse_value(text, {TypeKind::real, 0})) return false;
  kind_ = TypeKind::real;
  return true;
}

bool TypeFinder::take_moment(std::string_view text) {
  if (base::parse_datetime(text)) return true;
  if (!source::parse_moment(text)) return false;
  has_zones_ = true;
  return true;
}

void TypeFinder::become_text(std::string_view text, std::uint64_t line) {
  const auto digits = digits_of(text);
  const std::string shown = base::shortened(text, 30);
  if (is_too_long(digits, text)) {
    reason_ = fmt::format("a whole number that 64 bits do not hold stands in line {}: \"{}\"", line, shown);
  } else if (kind_ && *kind_ != TypeKind::text) {
    reason_ = digits && digits->leading_zero
                  ? fmt::format("a number with leading zeros stands in line {}: \"{}\"", line, shown)
                  : fmt::format("reads as {} until line {}, where \"{}\" stands", in_words(*kind_), line, shown);
  } else if (digits && digits->leading_zero) {
    reason_ = fmt::format("numbers with leading zeros, as \"{}\" in line {}", shown, line);
  }
  kind_ = TypeKind::text;
}

void TypeFinder::add(std::string_view text, std::uint64_t line) {
  if (kind_ == TypeKind::text) return;
  if (!kind_) {
    if (text == "true" || text == "false") {
      kind_ = TypeKind::boolean;
    } else if (base::parse_date(text)) {
      kind_ = TypeKind::date;
    } else if (take_moment(text)) {
      kind_ = TypeKind::datetime;
    } else if (base::parse_time(text)) {
      kind_ = TypeKind::time;
    } else if (!take_number(text, line)) {
      become_text(text, line);
    }
    return;
  }
  bool fits = false;
  switch (*kind_) {
    case TypeKind::boolean:
      fits = text == "true" || text == "false";
      break;
    case TypeKind::date:
      fits = base::parse_date(text).has_value();
      break;
    case TypeKind::datetime:
      fits = take_moment(text);
      break;
    case TypeKind::time:
      fits = base::parse_time(text).has_value();
      break;
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::real:
    case TypeKind::text:
      fits = take_number(text, line);
  }
  if (!fits) become_text(text, line);
}

std::string TypeFinder::reason() const {
  if (kind_ == TypeKind::datetime && has_zones_) return "its times have zones, and are read in UTC";
  return kind_ == TypeKind::real ? lost_digits_ : reason_;
}

Type TypeFinder::type() const {
  const TypeKind kind = kind_.value_or(TypeKind::text);
  return {kind, static_cast<std::uint8_t>(kind == TypeKind::decimal ? scale_ : 0)};
}

}  // namespace juniper::scanning
