#include "source/cell.h"

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper::source {

std::optional<std::int64_t> parse_cell(std::string_view text, Type type, base::FieldPart part) {
  std::optional<int128> exact;
  switch (part) {
    case base::FieldPart::whole:
      if (const auto value = parse_value(text, type)) exact = value->exact();
      break;
    case base::FieldPart::date:
    case base::FieldPart::time:
      if (const auto moment = base::parse_datetime(text)) {
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
