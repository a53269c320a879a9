#include "engine/naive/scalar.h"

#include <unicode/locid.h>
#include <unicode/regex.h>
#include <unicode/unistr.h>

#include <algorithm>
#include <array>
#include <boost/multiprecision/cpp_int.hpp>
#include <cmath>
#include <cstdlib>
#include <map>
#include <optional>

#include "base/calendar.h"
#include "base/exact.h"
#include "base/format.h"

namespace juniper::engine::naive {

namespace {

using language::Function;
using language::Node;
using language::Op;
using Big = boost::multiprecision::cpp_int;

// --- results --------------------------------------------------------------------------------------------------------

Cell null() {
  return {};
}
Cell exact(const Big& value) {
  static const Big most = (Big(1) << 127) - 1;
  static const Big least = -(Big(1) << 127);
  if (value > most || value < least) return {Value(), true};
  const Big magnitude = abs(value);
  const auto low = static_cast<std::uint64_t>(magnitude & ~std::uint64_t{0});
  const auto high = static_cast<std::uint64_t>(magnitude >> 64);
  const auto bits = static_cast<base::uint128>(high) << 64 | low;
  return {Value::of(static_cast<int128>(value < 0 ? -bits : bits)), false};
}
Cell real(double value) {
  if (!std::isfinite(value)) return null();
  return {Value::of(value == 0 ? 0.0 : value), false};
}
Cell truth(bool value) {
  return {Value::of(static_cast<int128>(value ? 1 : 0)), false};
}
Cell text(std::string value) {
  return {Value::of(std::move(value)), false};
}

Big big(const Cell& cell) {
  const int128 value = cell.value.exact();
  const bool negative = value < 0;
  const base::uint128 magnitude = negative ? -static_cast<base::uint128>(value) : static_cast<base::uint128>(value);
  const Big result = (Big(static_cast<std::uint64_t>(magnitude >> 64)) << 64) + static_cast<std::uint64_t>(magnitude);
  return negative ? Big(-result) : result;
}
Big ten_to(int digits) {
  return pow(Big(10), static_cast<unsigned>(digits));
}
bool is_true(const Cell& cell) {
  return !cell.overflow && !cell.value.is_null() && cell.value.exact() != 0;
}
bool is_false(const Cell& cell) {
  return !cell.overflow && !cell.value.is_null() && cell.value.exact() == 0;
}
// Thrown for a count of days or characters that 64 bits don't hold: what it is asked of overflows.
struct TooLarge {};
std::int64_t whole(const Cell& cell) {
  if (!base::fits_int64(cell.value.exact())) throw TooLarge{};
  return static_cast<std::int64_t>(cell.value.exact());
}

// --- text: as lists of code points ----------------------------------------------------------------------------------

using Points = std::vector<std::string>;

Points points(const std::string& text) {
  Points result;
  for (const char c : text) {
    if ((static_cast<unsigned char>(c) & 0xC0) == 0x80 && !result.empty()) {
      result.back() += c;
    } else {
      result.emplace_back(1, c);
    }
  }
  return result;
}

bool like(const Points& text, std::size_t t, const Points& pattern, std::size_t p) {
  if (p == pattern.size()) return t == text.size();
  if (pattern[p] == "%") {
    for (std::size_t rest = t; rest <= text.size(); ++rest) {
      if (like(text, rest, pattern, p + 1)) return true;
    }
    return false;
  }
  if (t == text.size() || (pattern[p] != "_" && pattern[p] != text[t])) return false;
  return like(text, t + 1, pattern, p + 1);
}

std::string substring(const std::string& text, std::int64_t from, std::int64_t length) {
  std::string result;
  std::int64_t position = 1;
  for (const std::string& point : points(text)) {
    if (position >= from && Big(position) < Big(from) + std::max<std::int64_t>(length, 0)) result += point;
    ++position;
  }
  return result;
}

std::string replaced(const std::string& text, const std::string& what, const std::string& with) {
  std::string result;
  for (std::size_t at = 0; at < text.size();) {
    if (!what.empty() && text.compare(at, what.size(), what) == 0) {
      result += with;
      at += what.size();
    } else {
      result += text[at++];
    }
  }
  return result;
}

std::string in_case(const std::string& text, bool upper) {
  icu::UnicodeString unicode = icu::UnicodeString::fromUTF8(text);
  upper ? unicode.toUpper(icu::Locale::getRoot()) : unicode.toLower(icu::Locale::getRoot());
  std::string result;
  return unicode.toUTF8String(result);
}

std::string trimmed(std::string text) {
  while (!text.empty() && text.front() == ' ') text.erase(0, 1);
  while (!text.empty() && text.back() == ' ') text.pop_back();
  return text;
}

// --- numbers --------------------------------------------------------------------------------------------------------

double as_real(const Cell& cell, Type type) {
  return type.kind == TypeKind::real ? cell.value.real() : base::to_real(cell.value.exact(), type.scale);
}

Cell divided(const Node& node, const std::vector<Cell>& x) {
  const Type a = node.children[0]->type;
  const Type b = node.children[1]->type;
  if (a.kind == TypeKind::real) return x[1].value.real() == 0 ? null() : real(x[0].value.real() / x[1].value.real());
  if (x[1].value.exact() == 0) return null();
  const Big top = big(x[0]) * ten_to(b.scale);
  const Big bottom = big(x[1]) * ten_to(a.scale);
  return real(static_cast<double>(boost::multiprecision::cpp_rational(top, bottom)));
}

// Towards zero, away from zero on a half, down or up, to a multiple of `step`.
Big rounded(const Big& x, const Big& step, Function how) {
  const Big quotient = x / step;  // towards zero
  const Big rest = x % step;
  if (how == Function::floor && rest < 0) return quotient - 1;
  if (how == Function::ceil && rest > 0) return quotient + 1;
  if (how == Function::round && 2 * abs(rest) >= step) return x < 0 ? Big(quotient - 1) : Big(quotient + 1);
  return quotient;
}

Cell round_number(const Node& node, const Cell& x) {
  const Type type = node.children[0]->type;
  const int digits = node.function == Function::round && node.children.size() > 1
                         ? static_cast<int>(node.children[1]->literal.exact())
                         : 0;
  if (type.kind == TypeKind::real) {
    const double value = x.value.real();
    if (node.function == Function::floor) return real(std::floor(value));
    if (node.function == Function::ceil) return real(std::ceil(value));
    if (node.function == Function::trunc) return real(std::trunc(value));
    const double factor = std::pow(10.0, digits < 0 ? -digits : digits);
    const double result = digits >= 0 ? std::round(value * factor) / factor : std::round(value / factor) * factor;
    return real(std::isfinite(result) ? result : value);
  }
  if (type.scale <= digits) return x;
  const Big result = rounded(big(x), ten_to(type.scale - digits), node.function);
  return exact(result * ten_to(node.type.scale - std::min<int>(digits, node.type.scale)));
}

// --- dates ----------------------------------------------------------------------------------------------------------

// The week of the year in which its Thursday lies.
std::int64_t iso_week(std::int64_t days) {
  const std::int64_t thursday = base::start_of(days, base::Unit::week) + 3;
  return (thursday - base::start_of(thursday, base::Unit::year)) / 7 + 1;
}

// A date, a time of day, or both, in pieces.
struct Moment {
  std::int64_t days = 0;
  std::int64_t microseconds = 0;  // of the day
  std::int64_t year() const { return static_cast<int>(base::civil_from_days(days).year()); }
  std::int64_t month() const { return static_cast<unsigned>(base::civil_from_days(days).month()); }
  std::int64_t day() const { return static_cast<unsigned>(base::civil_from_days(days).day()); }
  std::int64_t second() const { return microseconds / 1'000'000; }
};

Moment moment_of(const Node& node, const std::vector<Cell>& x) {
  const std::int64_t held = whole(x[0]);
  const TypeKind kind = node.children[0]->type.kind;
  if (kind == TypeKind::date) return {held, 0};
  if (kind == TypeKind::time) return {0, held};
  const std::int64_t days = base::floor_divide(held, base::microseconds_per_day);
  return {days, held - days * base::microseconds_per_day};
}

Cell moved(const Cell& date, const Cell& count, base::Unit unit) {
  const auto result = base::moved(whole(date), whole(count), unit);
  return result ? number(*result) : null();
}

// --- functions ------------------------------------------------------------------------------------------------------

// Those that look at nulls themselves.
Cell pick(const Node& node, const std::vector<Cell>& x) {
  const Cell* best = nullptr;
  for (const Cell& cell : x) {
    if (!cell.overflow && cell.value.is_null()) continue;
    if (node.function == Function::coalesce) return cell;
    if (cell.overflow) return cell;
    const bool better = best == nullptr || (node.function == Function::least ? compare(cell.value, best->value) < 0
                                                                             : compare(cell.value, best->value) > 0);
    if (better) best = &cell;
  }
  return best != nullptr ? *best : null();
}

// --- values that texts hold: by expressions that say how they are spelled -------------------------------------------

// What the groups of a regular expression hold where it fits the whole text, "" for one that took no part.
std::optional<std::vector<std::string>> matched(const std::string& text, const std::string& expression) {
  UErrorCode status = U_ZERO_ERROR;
  icu::RegexMatcher matcher(icu::UnicodeString::fromUTF8(expression), 0, status);
  const icu::UnicodeString unicode = icu::UnicodeString::fromUTF8(text);
  matcher.reset(unicode);
  if (U_FAILURE(status) || matcher.matches(status) == 0) return std::nullopt;
  std::vector<std::string> groups;
  for (std::int32_t group = 1; group <= matcher.groupCount(); ++group)
    matcher.group(group, status).toUTF8String(groups.emplace_back());
  return groups;
}

// The number as its digits say it: a sign, those before the point, and those behind it.
Cell units_in(const std::string& text, Type type) {
  const auto part = matched(text, type.kind == TypeKind::integer ? "([-+]?)([0-9]+)()" : "([-+]?)([0-9]*)[.]?([0-9]*)");
  if (!part || (*part)[1].size() + (*part)[2].size() == 0) return null();
  std::string digits = (*part)[1];
  const std::string& behind = (*part)[2];
  for (std::size_t i = 0; i < behind.size() || i < type.scale; ++i) {
    const char digit = i < behind.size() ? behind[i] : '0';
    if (i < type.scale) digits += digit;
    if (i >= type.scale && digit != '0') return null();
  }
  digits.erase(0, std::min(digits.find_first_not_of('0'), digits.size()));
  if (digits.size() > 30) return null();
  Big units = digits.empty() ? Big(0) : Big(digits);
  if ((*part)[0] == "-") units = -units;
  return units < INT64_MIN || units > INT64_MAX ? null() : exact(units);
}

Cell real_in(const std::string& text) {
  const auto part = matched(text, "[-+]?([0-9]+[.]?[0-9]*|[.][0-9]+)([eE][-+]?[0-9]+)?");
  if (!part) return null();
  const double value = std::strtod(text.c_str(), nullptr);
  if (value == 0 && (*part)[0].find_first_of("123456789") != std::string::npos) return null();
  return real(value);
}

// A pattern's letters become groups of digits, in their order; what else stands in it stands for itself.
Cell moment_in(const std::string& text, std::string pattern, Type type) {
  const bool has_time = type.kind == TypeKind::datetime;
  const bool is_own = pattern.empty();
  if (is_own) pattern = "yyyy-MM-dd";
  std::string spelled;
  std::string letters;
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    const char c = pattern[i];
    if (std::string("dMyHms").find(c) == std::string::npos) {
      const bool is_mark = static_cast<unsigned char>(c) < 0x80 && c != 'T';
      spelled += is_mark ? "\\" + std::string(1, c) : std::string(1, c);
      continue;
    }
    std::size_t run = 1;
    while (i + 1 < pattern.size() && pattern[i + 1] == c) ++i, ++run;
    letters += c;
    spelled += run == 1 ? "([0-9]{1,2})" : "([0-9]{" + std::to_string(run) + "})";
  }
  if (is_own && has_time) {
    spelled += "[ T]([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:[.]([0-9]{1,6}))?)?";
    letters += "Hms";
  }
  const auto part = matched(text, spelled);
  if (!part) return null();
  std::map<char, int> of;
  for (std::size_t i = 0; i < letters.size(); ++i) {
    const std::string& digits = (*part)[i];
    of[letters[i]] = digits.empty() ? 0 : std::stoi(digits);
  }
  std::string fraction = part->size() > letters.size() ? part->back() : "";
  fraction.resize(6, '0');
  const bool leap = of['y'] % 4 == 0 && (of['y'] % 100 != 0 || of['y'] % 400 == 0);
  const std::array days{31, leap ? 29 : 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  if (of['y'] < 1 || of['M'] < 1 || of['M'] > 12 || of['d'] < 1 ||
      of['d'] > days[static_cast<std::size_t>(of['M']) - 1] || of['H'] > 23 || of['m'] > 59 || of['s'] > 59)
    return null();
  const std::int64_t day =
      base::days_from_civil(of['y'], static_cast<unsigned>(of['M']), static_cast<unsigned>(of['d']));
  if (!has_time) return number(day);
  return number(day * base::microseconds_per_day + ((of['H'] * 60 + of['m']) * 60 + of['s']) * INT64_C(1000000) +
                std::stoi(fraction));
}

Cell call(const Node& node, const std::vector<Cell>& x, const Setting& setting) {
  switch (node.function) {
    case Function::abs:
      return node.type.kind == TypeKind::real ? real(std::fabs(x[0].value.real())) : exact(abs(big(x[0])));
    case Function::round:
    case Function::floor:
    case Function::ceil:
    case Function::trunc:
      return round_number(node, x[0]);
    case Function::sign: {
      const double value = as_real(x[0], node.children[0]->type);
      return number(value > 0 ? 1 : (value < 0 ? -1 : 0));
    }
    case Function::sqrt:
      return real(std::sqrt(x[0].value.real()));
    case Function::exp:
      return real(std::exp(x[0].value.real()));
    case Function::ln:
      return real(std::log(x[0].value.real()));
    case Function::power:
      return real(std::pow(x[0].value.real(), x[1].value.real()));
    case Function::length:
      return number(static_cast<std::int64_t>(points(x[0].value.text()).size()));
    case Function::upper:
    case Function::lower:
      return text(in_case(x[0].value.text(), node.function == Function::upper));
    case Function::trim:
      return text(trimmed(x[0].value.text()));
    case Function::substring:
      return text(substring(x[0].value.text(), whole(x[1]), x.size() > 2 ? whole(x[2]) : INT64_MAX));
    case Function::replace:
      return text(replaced(x[0].value.text(), x[1].value.text(), x[2].value.text()));
    case Function::starts_with:
      return truth(x[0].value.text().compare(0, x[1].value.text().size(), x[1].value.text()) == 0);
    case Function::ends_with: {
      const std::string& all = x[0].value.text();
      const std::string& end = x[1].value.text();
      return truth(all.size() >= end.size() && all.substr(all.size() - end.size()) == end);
    }
    case Function::contains:
      return truth(x[0].value.text().find(x[1].value.text()) != std::string::npos);
    case Function::add_days:
      return moved(x[0], x[1], base::Unit::day);
    case Function::add_months:
      return moved(x[0], x[1], base::Unit::month);
    case Function::add_years:
      return moved(x[0], x[1], base::Unit::year);
    case Function::datetime:
      return number(whole(x[0]) * base::microseconds_per_day + whole(x[1]));
    case Function::days_between:
      return number(whole(x[1]) - whole(x[0]));
    case Function::months_between:
      return real(base::months_between(whole(x[0]), whole(x[1])));
    case Function::years_between:
      return real(base::years_between(whole(x[0]), whole(x[1])));
    case Function::start_of:
      return number(base::start_of(whole(x[0]), static_cast<base::Unit>(whole(x[1]))));
    case Function::end_of: {
      const std::int64_t end = base::end_of(whole(x[0]), static_cast<base::Unit>(whole(x[1])));
      return end > base::days_from_civil(base::last_year, 12, 31) ? null() : number(end);
    }
    case Function::today:
      return number(setting.today);
    case Function::year:
      return number(moment_of(node, x).year());
    case Function::quarter:
      return number((moment_of(node, x).month() - 1) / 3 + 1);
    case Function::month:
      return number(moment_of(node, x).month());
    case Function::day:
      return number(moment_of(node, x).day());
    case Function::weekday: {
      const std::int64_t days = moment_of(node, x).days;
      return number(days - base::start_of(days, base::Unit::week) + 1);
    }
    case Function::week:
      return number(iso_week(moment_of(node, x).days));
    case Function::hour:
      return number(moment_of(node, x).second() / 3600);
    case Function::minute:
      return number(moment_of(node, x).second() % 3600 / 60);
    case Function::second:
      return number(moment_of(node, x).second() % 60);
    case Function::date:
      return number(moment_of(node, x).days);
    case Function::time:
      return number(moment_of(node, x).microseconds);
    case Function::text:
      if (x.size() == 1) return text(to_text(x[0].value, node.children[0]->type));
      return text(base::ValueFormat(node.children[0]->type, x[1].value.text()).text(x[0].value));
    case Function::integer_from:
    case Function::decimal_from:
      return units_in(trimmed(x[0].value.text()), node.type);
    case Function::real_from:
      return real_in(trimmed(x[0].value.text()));
    case Function::date_from:
    case Function::datetime_from:
      return moment_in(trimmed(x[0].value.text()), x.size() > 1 ? x[1].value.text() : "", node.type);
    case Function::least:  // these look at nulls themselves
    case Function::greatest:
    case Function::coalesce:
      return pick(node, x);
  }
  return null();
}

Cell member(const std::vector<Cell>& x) {
  if (x[0].overflow || x[0].value.is_null()) return x[0];
  Cell result = truth(false);
  for (std::size_t i = 1; i < x.size(); ++i) {
    if (x[i].overflow || x[i].value.is_null()) {
      if (!x[i].overflow || !result.value.is_null()) result = x[i];  // null is more than what does not fit
    } else if (compare(x[0].value, x[i].value) == 0) {
      return truth(true);
    }
  }
  return result;
}

Cell applied(const Node& node, const std::vector<Cell>& x, const Setting& setting) {
  // First what is not null just because an operand is.
  const auto any_overflow = std::any_of(x.begin(), x.end(), [](const Cell& c) { return c.overflow; });
  const auto any_null = std::any_of(x.begin(), x.end(), [](const Cell& c) { return !c.overflow && c.value.is_null(); });
  switch (node.op) {
    case Op::and_:
      if (is_false(x[0]) || is_false(x[1])) return truth(false);
      return any_overflow ? Cell{Value(), true} : (any_null ? null() : truth(true));
    case Op::or_:
      if (is_true(x[0]) || is_true(x[1])) return truth(true);
      return any_overflow ? Cell{Value(), true} : (any_null ? null() : truth(false));
    case Op::is_null:
      return any_overflow ? x[0] : truth(any_null);
    case Op::is_distinct:
      if (any_overflow) return {Value(), true};
      return truth(x[0].value.is_null() != x[1].value.is_null() ||
                   (!x[0].value.is_null() && compare(x[0].value, x[1].value) != 0));
    case Op::in:
      return member(x);
    case Op::call:
      if (node.function == Function::least || node.function == Function::greatest ||
          node.function == Function::coalesce)
        return call(node, x, setting);
      break;
    case Op::literal:
    case Op::column:
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
    case Op::add:
    case Op::subtract:
    case Op::multiply:
    case Op::divide:
    case Op::int_divide:
    case Op::modulo:
    case Op::negate:
    case Op::equal:
    case Op::not_equal:
    case Op::less:
    case Op::less_equal:
    case Op::like:
    case Op::not_:
    case Op::concat:
    case Op::cases:
    case Op::rescale:
    case Op::to_real:
      break;
  }
  if (any_null) return null();
  if (any_overflow) return {Value(), true};
  const bool reals = !x.empty() && x[0].value.kind() == Value::Kind::real;
  switch (node.op) {
    case Op::add:
      return reals ? real(x[0].value.real() + x[1].value.real()) : exact(big(x[0]) + big(x[1]));
    case Op::subtract:
      return reals ? real(x[0].value.real() - x[1].value.real()) : exact(big(x[0]) - big(x[1]));
    case Op::multiply:
      return reals ? real(x[0].value.real() * x[1].value.real()) : exact(big(x[0]) * big(x[1]));
    case Op::divide:
      return divided(node, x);
    case Op::int_divide:
      return x[1].value.exact() == 0 ? null() : exact(big(x[0]) / big(x[1]));
    case Op::modulo:
      return x[1].value.exact() == 0 ? null() : exact(big(x[0]) % big(x[1]));
    case Op::negate:
      return reals ? real(-x[0].value.real()) : exact(-big(x[0]));
    case Op::equal:
      return truth(compare(x[0].value, x[1].value) == 0);
    case Op::not_equal:
      return truth(compare(x[0].value, x[1].value) != 0);
    case Op::less:
      return truth(compare(x[0].value, x[1].value) < 0);
    case Op::less_equal:
      return truth(compare(x[0].value, x[1].value) <= 0);
    case Op::like:
      return truth(like(points(x[0].value.text()), 0, points(x[1].value.text()), 0));
    case Op::not_:
      return truth(is_false(x[0]));
    case Op::concat:
      return text(x[0].value.text() + x[1].value.text());
    case Op::rescale:
      return exact(big(x[0]) * ten_to(node.type.scale - node.children[0]->type.scale));
    case Op::to_real:
      return real(as_real(x[0], node.children[0]->type));
    case Op::literal:
    case Op::column:
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
    case Op::is_distinct:
    case Op::in:
    case Op::and_:
    case Op::or_:
    case Op::is_null:
    case Op::cases:
    case Op::call:
      return call(node, x, setting);
  }
  return null();
}

}  // namespace

Cell apply(const Node& node, const std::vector<Cell>& operands, const Setting& setting) {
  try {
    return applied(node, operands, setting);
  } catch (const TooLarge&) {
    return {Value(), true};
  }
}

}  // namespace juniper::engine::naive
