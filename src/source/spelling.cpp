#include "source/spelling.h"

#include <fmt/format.h>

#include <algorithm>

namespace juniper::source {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// The length of the run of one letter at the begin of a pattern.
std::size_t run_of(std::string_view pattern) {
  return std::min(pattern.find_first_not_of(pattern[0]), pattern.size());
}

// A number of as many digits as its letters say: one letter stands for one digit or two.
std::optional<int> take_number(std::string_view& text, std::size_t letters) {
  std::size_t digits = 0;
  const std::size_t most = letters == 1 ? 2 : letters;
  while (digits < most && digits < text.size() && is_digit(text[digits])) ++digits;
  if (digits == 0 || (letters > 1 && digits != letters)) return std::nullopt;
  int number = 0;
  for (std::size_t i = 0; i < digits; ++i) number = number * 10 + (text[i] - '0');
  text.remove_prefix(digits);
  return number;
}

// The date at the begin of a text as here, and what stands behind it.
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
    const std::size_t letters = run_of(pattern);
    const auto number = take_number(text, letters);
    if (!number) return std::nullopt;
    (letter == 'd' ? day : (letter == 'M' ? month : year)) = *number;
    pattern.remove_prefix(letters);
  }
  // Digits that go on are no time of day.
  if (!text.empty() && is_digit(text[0])) return std::nullopt;
  return fmt::format("{:04}-{:02}-{:02}{}", year, month, day, text);
}

// Digits in groups of three, but for the first, which is shorter or as long.
bool are_groups(std::string_view whole, char mark) {
  std::size_t digits = 0;
  bool is_first = true;
  for (std::size_t i = 0; i <= whole.size(); ++i) {
    if (i < whole.size() && whole[i] != mark) {
      if (!is_digit(whole[i])) return false;
      ++digits;
      continue;
    }
    const bool is_only = is_first && i == whole.size();
    if (!is_only && (is_first ? digits == 0 || digits > 3 : digits != 3)) return false;
    is_first = false;
    digits = 0;
  }
  return true;
}

std::optional<std::string> respelled_number(std::string_view text, const base::Spelling& spelling) {
  const std::size_t sign = !text.empty() && (text[0] == '-' || text[0] == '+') ? 1 : 0;
  const std::size_t point = std::min(text.find(spelling.decimal), text.size());
  std::string_view whole = text.substr(sign, point - std::min(point, sign));
  std::string number(text.substr(0, sign));
  if (spelling.thousands != '\0' && whole.find(spelling.thousands) != std::string_view::npos) {
    if (!are_groups(whole, spelling.thousands)) return std::nullopt;
    for (const char c : whole) {
      if (c != spelling.thousands) number += c;
    }
  } else {
    number += whole;
  }
  const std::string_view decimals = text.substr(point);
  if (!decimals.empty()) number.append(1, '.').append(decimals.substr(1));
  // A point that is not the mark of the decimals is none.
  if (spelling.decimal != '.' && std::count(number.begin(), number.end(), '.') > (decimals.empty() ? 0 : 1))
    return std::nullopt;
  return number;
}

}  // namespace

bool is_null_word(std::string_view text, bool quoted, const base::Spelling& spelling) {
  return !quoted && std::find(spelling.nulls.begin(), spelling.nulls.end(), text) != spelling.nulls.end();
}

std::optional<std::string> respelled(std::string_view text, Type type, base::FieldPart part,
                                     const base::Spelling& spelling) {
  const bool is_moment = part == base::FieldPart::date || part == base::FieldPart::time;
  switch (type.kind) {
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::real:
      return respelled_number(text, spelling);
    case TypeKind::date:
    case TypeKind::datetime:
      if (spelling.dates.empty()) return std::string(text);
      return respelled_date(text, spelling.dates);
    case TypeKind::time:
      if (spelling.dates.empty() || !is_moment) return std::string(text);
      return respelled_date(text, spelling.dates);
    case TypeKind::boolean:
      if (spelling.truths.empty()) return std::string(text);
      if (text == spelling.truths[0]) return "true";
      return text == spelling.truths[1] ? std::optional<std::string>("false") : std::nullopt;
    case TypeKind::text:
      return std::string(text);
  }
  return std::string(text);
}

}  // namespace juniper::source
