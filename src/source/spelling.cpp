#include "source/spelling.h"

#include <algorithm>

#include "base/date_pattern.h"

namespace juniper::source {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
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
      return base::respelled_date(text, spelling.dates);
    case TypeKind::time:
      if (spelling.dates.empty() || !is_moment) return std::string(text);
      return base::respelled_date(text, spelling.dates);
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
