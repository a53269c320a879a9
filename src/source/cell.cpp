#include "source/cell.h"

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper::source {

namespace {

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// Takes a zone off the end of a text, in minutes before UTC. Nothing if it has one that is none.
std::optional<int> take_zone(std::string_view& text) {
  if (text.ends_with('Z') || text.ends_with('z')) {
    text.remove_suffix(1);
    return 0;
  }
  constexpr std::size_t date_length = 10;
  const std::size_t sign = text.find_last_of("+-");
  if (sign == std::string_view::npos || sign <= date_length) return 0;
  std::string digits;
  for (const char c : text.substr(sign + 1)) {
    if (is_digit(c))
      digits += c;
    else if (c != ':' || digits.size() != 2)
      return std::nullopt;
  }
  if (digits.size() == 2) digits += "00";
  if (digits.size() != 4) return std::nullopt;
  const int hours = (digits[0] - '0') * 10 + digits[1] - '0';
  const int minutes = (digits[2] - '0') * 10 + digits[3] - '0';
  if (hours > 18 || minutes > 59) return std::nullopt;
  const int before = hours * 60 + minutes;
  const int minutes_before = text[sign] == '+' ? before : -before;
  text = text.substr(0, sign);
  if (text.ends_with(' ')) text.remove_suffix(1);
  return minutes_before;
}

}  // namespace

std::optional<std::int64_t> parse_moment(std::string_view text) {
  if (const auto moment = base::parse_datetime(text)) return moment;
  const auto minutes = take_zone(text);
  if (!minutes) return std::nullopt;
  constexpr std::size_t most_digits = 6;
  const std::size_t point = text.rfind('.');
  if (point != std::string_view::npos) {
    while (text.size() > point + 1 + most_digits && text.ends_with('0')) text.remove_suffix(1);
  }
  const auto moment = base::parse_datetime(text);
  if (!moment) return std::nullopt;
  return *moment - std::int64_t{*minutes} * 60'000'000;
}

std::optional<std::int64_t> parse_cell(std::string_view text, Type type, base::FieldPart part) {
  std::optional<int128> exact;
  switch (part) {
    case base::FieldPart::whole:
      if (type.kind == TypeKind::datetime) return parse_moment(text);
      if (const auto value = parse_value(text, type)) exact = value->exact();
      break;
    case base::FieldPart::date:
    case base::FieldPart::time:
      if (const auto moment = parse_moment(text)) {
        const std::int64_t days = base::floor_divide(*moment, base::microseconds_per_day);
        exact = part == base::FieldPart::date ? days : *moment - days * base::microseconds_per_day;
      }
      break;
    case base::FieldPart::round:
      if (const auto units = base::parse_exact(text, base::max_scale))
        exact = base::divide_rounded(*units, base::power_of_ten(base::max_scale - type.scale));
      break;
  }
  if (!exact || !base::fits_int64(*exact)) return std::nullopt;
  return static_cast<std::int64_t>(*exact);
}

}  // namespace juniper::source
