#include "juniper/value.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>

#include <cmath>

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper {

namespace base {

double to_real(int128 units, int scale) {
  if (scale == 0) return static_cast<double>(units);
  // Where both parts are exact doubles one division rounds once; else the decimal text is read, which does too.
  constexpr int128 exact_limit = static_cast<int128>(1) << 53;
  if (units >= -exact_limit && units <= exact_limit) {
    return static_cast<double>(units) / static_cast<double>(power_of_ten(scale));
  }
  const std::string text = exact_text(units, scale);
  double value = 0;
  fast_float::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}

std::string exact_text(int128 units, int scale) {
  const auto magnitude = units < 0 ? -static_cast<uint128>(units) : static_cast<uint128>(units);
  const auto narrow = static_cast<std::uint64_t>(magnitude);
  std::string text = narrow == magnitude ? fmt::format_int(narrow).str() : fmt::to_string(magnitude);
  if (scale > 0) {
    const auto decimals = static_cast<std::size_t>(scale);
    if (text.size() <= decimals) text.insert(0, decimals + 1 - text.size(), '0');
    text.insert(text.size() - decimals, 1, '.');
  }
  if (units < 0) text.insert(0, 1, '-');
  return text;
}

std::optional<int128> parse_exact(std::string_view text, int scale) {
  bool negative = false;
  if (!text.empty() && (text.front() == '-' || text.front() == '+')) {
    negative = text.front() == '-';
    text.remove_prefix(1);
  }
  int128 units = 0;
  int after_point = -1;  // digits seen after the point, -1 before it
  bool any_digit = false;
  const auto append = [&units](int digit) {
    return !__builtin_mul_overflow(units, static_cast<int128>(10), &units) &&
           !__builtin_add_overflow(units, static_cast<int128>(digit), &units);
  };
  for (const char c : text) {
    if (c == '.' && after_point < 0) {
      after_point = 0;
      continue;
    }
    if (c < '0' || c > '9') return std::nullopt;
    any_digit = true;
    if (after_point >= scale) {
      if (c != '0') return std::nullopt;
      continue;
    }
    if (after_point >= 0) ++after_point;
    if (!append(c - '0')) return std::nullopt;
  }
  if (!any_digit) return std::nullopt;
  for (int i = after_point < 0 ? 0 : after_point; i < scale; ++i) {
    if (!append(0)) return std::nullopt;
  }
  return negative ? -units : units;
}

}  // namespace base

std::string to_string(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "boolean";
    case TypeKind::integer:
      return "integer";
    case TypeKind::decimal:
      return fmt::format("decimal({})", type.scale);
    case TypeKind::real:
      return "real";
    case TypeKind::text:
      return "text";
    case TypeKind::date:
      return "date";
    case TypeKind::datetime:
      return "datetime";
    case TypeKind::time:
      return "time";
  }
  return "";
}

int compare(const Value& a, const Value& b) {
  if (a.is_null() || b.is_null()) return static_cast<int>(a.is_null()) - static_cast<int>(b.is_null());
  const auto order = [](const auto& x, const auto& y) { return x < y ? -1 : (y < x ? 1 : 0); };
  switch (a.kind()) {
    case Value::Kind::exact:
      return order(a.exact(), b.exact());
    case Value::Kind::real:
      return order(a.real(), b.real());
    case Value::Kind::null:
    case Value::Kind::text:
      return order(a.text(), b.text());
  }
  return 0;
}

std::optional<double> to_double(const Value& value, Type type) {
  if (value.is_null() || !type.is_number()) return std::nullopt;
  return type.kind == TypeKind::real ? value.real() : base::to_real(value.exact(), type.scale);
}

std::string to_string(int128 number) {
  return base::exact_text(number, 0);
}

std::string to_text(const Value& value, Type type) {
  if (value.is_null()) return "";
  switch (type.kind) {
    case TypeKind::boolean:
      return value.exact() != 0 ? "true" : "false";
    case TypeKind::integer:
    case TypeKind::decimal:
      return base::exact_text(value.exact(), type.scale);
    case TypeKind::real:
      return fmt::format("{}", value.real());
    case TypeKind::text:
      return value.text();
    case TypeKind::date:
      return base::date_text(static_cast<std::int64_t>(value.exact()));
    case TypeKind::datetime:
      return base::datetime_text(static_cast<std::int64_t>(value.exact()));
    case TypeKind::time:
      return base::time_text(static_cast<std::int64_t>(value.exact()));
  }
  return "";
}

std::optional<Value> parse_value(std::string_view text, Type type) {
  const auto exact = [](const auto& units) -> std::optional<Value> {
    if (!units) return std::nullopt;
    return Value::of(static_cast<int128>(*units));
  };
  switch (type.kind) {
    case TypeKind::boolean:
      if (text == "true") return Value::of(static_cast<int128>(1));
      if (text == "false") return Value::of(static_cast<int128>(0));
      return std::nullopt;
    case TypeKind::integer:
    case TypeKind::decimal:
      return exact(base::parse_exact(text, type.scale));
    case TypeKind::real: {
      double real = 0;
      const auto [end, error] = fast_float::from_chars(text.data(), text.data() + text.size(), real);
      if (error != std::errc() || end != text.data() + text.size() || !std::isfinite(real)) return std::nullopt;
      return Value::of(real == 0 ? 0.0 : real);  // one zero: what compares equal is one value
    }
    case TypeKind::text:
      return Value::of(std::string(text));
    case TypeKind::date:
      return exact(base::parse_date(text));
    case TypeKind::datetime:
      return exact(base::parse_datetime(text));
    case TypeKind::time:
      return exact(base::parse_time(text));
  }
  return std::nullopt;
}

}  // namespace juniper
