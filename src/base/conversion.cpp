#include "base/conversion.h"

#include <fast_float/fast_float.h>

#include <algorithm>
#include <cmath>

#include "base/calendar.h"
#include "base/date_pattern.h"
#include "base/exact.h"

namespace juniper::base {

namespace {

std::string_view without_blanks(std::string_view text) {
  const std::size_t begin = text.find_first_not_of(' ');
  if (begin == std::string_view::npos) return {};
  return text.substr(begin, text.find_last_not_of(' ') - begin + 1);
}

std::size_t take_digits(std::string_view& text) {
  const std::size_t digits = std::min(text.find_first_not_of("0123456789"), text.size());
  text.remove_prefix(digits);
  return digits;
}

void take_sign(std::string_view& text) {
  if (!text.empty() && (text[0] == '+' || text[0] == '-')) text.remove_prefix(1);
}

// True for what real_from says; `has_value` tells whether any digit of the number itself is other than 0.
bool is_number(std::string_view text, bool& has_value) {
  take_sign(text);
  const std::string_view mantissa = text.substr(0, std::min(text.find_first_of("eE"), text.size()));
  has_value = mantissa.find_first_of("123456789") != std::string_view::npos;
  std::size_t digits = take_digits(text);
  if (!text.empty() && text[0] == '.') {
    text.remove_prefix(1);
    digits += take_digits(text);
  }
  if (digits == 0) return false;
  if (!text.empty() && (text[0] == 'e' || text[0] == 'E')) {
    text.remove_prefix(1);
    take_sign(text);
    if (take_digits(text) == 0) return false;
  }
  return text.empty();
}

}  // namespace

std::optional<std::int64_t> integer_from(std::string_view text) {
  text = without_blanks(text);
  if (text.find('.') != std::string_view::npos) return std::nullopt;
  return decimal_from(text, 0);
}

std::optional<std::int64_t> decimal_from(std::string_view text, int scale) {
  const auto units = parse_exact(without_blanks(text), scale);
  if (!units || !fits_int64(*units)) return std::nullopt;
  return static_cast<std::int64_t>(*units);
}

std::optional<double> real_from(std::string_view text) {
  text = without_blanks(text);
  bool has_value = false;
  if (!is_number(text, has_value)) return std::nullopt;
  if (text[0] == '+') text.remove_prefix(1);
  double real = 0;
  fast_float::from_chars(text.data(), text.data() + text.size(), real);
  if (!std::isfinite(real) || (real == 0 && has_value)) return std::nullopt;
  return real == 0 ? 0.0 : real;  // one zero
}

std::optional<std::int64_t> date_from(std::string_view text, std::string_view pattern) {
  text = without_blanks(text);
  if (pattern.empty()) return parse_date(text);
  const auto spelled = respelled_date(text, pattern);
  return spelled ? parse_date(*spelled) : std::nullopt;
}

std::optional<std::int64_t> datetime_from(std::string_view text, std::string_view pattern) {
  text = without_blanks(text);
  if (pattern.empty()) return parse_datetime(text);
  const auto spelled = respelled_datetime(text, pattern);
  return spelled ? parse_datetime(*spelled) : std::nullopt;
}

}  // namespace juniper::base
