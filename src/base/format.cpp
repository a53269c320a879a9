#include "base/format.h"

#include <fmt/format.h>
#include <unicode/dcfmtsym.h>
#include <unicode/decimfmt.h>
#include <unicode/gregocal.h>
#include <unicode/smpdtfmt.h>
#include <unicode/timezone.h>

#include <array>
#include <cmath>
#include <limits>
#include <memory>

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper::base {

namespace {

icu::UnicodeString unicode(std::string_view text) {
  return icu::UnicodeString::fromUTF8(icu::StringPiece(text.data(), static_cast<int>(text.size())));
}

std::string utf8(const icu::UnicodeString& text) {
  std::string out;
  return text.toUTF8String(out);
}

std::unique_ptr<icu::DecimalFormat> number_format(std::string_view pattern, UErrorCode& status) {
  auto format = std::make_unique<icu::DecimalFormat>(unicode(pattern),
                                                     icu::DecimalFormatSymbols(icu::Locale::getUS(), status), status);
  if (U_SUCCESS(status)) format->setRoundingMode(icu::DecimalFormat::kRoundHalfUp);  // ICU's name for: away from zero
  return format;
}

std::unique_ptr<icu::SimpleDateFormat> date_format(std::string_view pattern, UErrorCode& status) {
  auto format = std::make_unique<icu::SimpleDateFormat>(unicode(pattern), icu::Locale::getUS(), status);
  if (U_FAILURE(status)) return format;
  // Dates are Gregorian ones in all years: ICU's own calendar is the Julian one before October 1582.
  auto calendar = std::make_unique<icu::GregorianCalendar>(*icu::TimeZone::getGMT(), icu::Locale::getUS(), status);
  if (U_SUCCESS(status)) calendar->setGregorianChange(std::numeric_limits<UDate>::lowest(), status);
  if (U_SUCCESS(status)) format->adoptCalendar(calendar.release());
  return format;
}

bool is_moment(Type type) {
  return type.kind == TypeKind::date || type.kind == TypeKind::datetime || type.kind == TypeKind::time;
}

// Milliseconds since 1970, as ICU counts: those that are over, so that no moment becomes the one behind it.
double milliseconds_of(const Value& value, Type type) {
  const auto exact = static_cast<std::int64_t>(value.exact());
  return static_cast<double>(type.kind == TypeKind::date ? exact * (microseconds_per_day / 1000)
                                                         : floor_divide(exact, 1000));
}

}  // namespace

std::string pattern_problem(std::string_view pattern, Type type) {
  UErrorCode status = U_ZERO_ERROR;
  if (type.is_number()) {
    const auto format = number_format(pattern, status);
    return U_SUCCESS(status) ? "" : fmt::format("\"{}\" is not a number pattern ({})", pattern, u_errorName(status));
  }
  if (is_moment(type)) {
    const auto format = date_format(pattern, status);
    icu::UnicodeString out;
    if (U_SUCCESS(status)) format->format(UDate(0), out, nullptr, status);
    return U_SUCCESS(status) && !out.isEmpty() ? "" : fmt::format("\"{}\" is not a date pattern", pattern);
  }
  return fmt::format("{} has no pattern: numbers, dates and times have", to_string(type));
}

struct ValueFormat::Pattern {
  std::unique_ptr<icu::DecimalFormat> number;
  std::unique_ptr<icu::SimpleDateFormat> date;
};

ValueFormat::ValueFormat(Type type, std::string_view pattern) : type_(type) {
  if (pattern.empty()) return;
  UErrorCode status = U_ZERO_ERROR;
  Pattern read;
  if (type.is_number()) read.number = number_format(pattern, status);
  if (is_moment(type)) read.date = date_format(pattern, status);
  if (U_SUCCESS(status) && (read.number || read.date)) pattern_ = std::make_unique<const Pattern>(std::move(read));
}
ValueFormat::~ValueFormat() = default;
ValueFormat::ValueFormat(ValueFormat&&) noexcept = default;
ValueFormat& ValueFormat::operator=(ValueFormat&&) noexcept = default;

std::string ValueFormat::text(const Value& value) const {
  if (value.is_null()) return "";
  if (!pattern_) return type_.kind == TypeKind::real ? fmt::format("{:.6g}", value.real()) : to_text(value, type_);
  UErrorCode status = U_ZERO_ERROR;
  icu::UnicodeString out;
  if (pattern_->date) {
    pattern_->date->format(UDate(milliseconds_of(value, type_)), out);
  } else if (type_.kind == TypeKind::real) {
    pattern_->number->format(value.real(), out);
  } else {
    const std::string digits = to_text(value, type_);
    pattern_->number->format(icu::StringPiece(digits), out, nullptr, status);
  }
  if (U_FAILURE(status) || out.isEmpty()) return to_text(value, type_);
  std::string text = utf8(out);
  // What is rounded to nothing has no sign.
  if (pattern_->number && text.find_first_of("123456789") == std::string::npos) {
    out.remove();
    pattern_->number->format(0, out);
    text = utf8(out);
  }
  return text;
}

std::string grouped(std::uint64_t number) {
  std::string digits = fmt::format("{}", number);
  for (std::ptrdiff_t at = static_cast<std::ptrdiff_t>(digits.size()) - 3; at > 0; at -= 3)
    digits.insert(static_cast<std::size_t>(at), ",");
  return digits;
}

std::string format_bytes(std::uint64_t bytes) {
  constexpr std::array<std::string_view, 5> units{"B", "kB", "MB", "GB", "TB"};
  auto amount = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (amount >= 999.5 && unit + 1 < units.size()) {
    amount /= 1000;
    ++unit;
  }
  if (unit == 0) return fmt::format("{} B", bytes);
  return fmt::format("{:.{}f} {}", amount, amount < 9.995 ? 2 : (amount < 99.95 ? 1 : 0), units[unit]);
}

std::string format_nanoseconds(std::int64_t nanoseconds) {
  const auto digits = [](double amount) { return std::abs(amount) < 9.995 ? 2 : (std::abs(amount) < 99.95 ? 1 : 0); };
  const double seconds = static_cast<double>(nanoseconds) / 1e9;
  if (std::abs(seconds) >= 0.9995) return fmt::format("{:.{}f} s", seconds, digits(seconds));
  if (std::abs(seconds) >= 0.0009995) return fmt::format("{:.{}f} ms", seconds * 1e3, digits(seconds * 1e3));
  return fmt::format("{:.0f} µs", seconds * 1e6);
}

}  // namespace juniper::base
