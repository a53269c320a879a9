#include "report/cells.h"

#include <fmt/format.h>

#include <array>
#include <cmath>

#include "base/format.h"

namespace juniper::report_cells {

Cell text(std::string value) {
  return {Cell::Kind::text, value, value};
}
Cell count(std::uint64_t value) {
  return {Cell::Kind::number, base::grouped(value), fmt::format("{}", value)};
}
Cell bytes(std::uint64_t value) {
  return {Cell::Kind::number, base::format_bytes(value), fmt::format("{}", value)};
}
Cell nanoseconds(std::int64_t value) {
  return {Cell::Kind::number, base::format_nanoseconds(value), fmt::format("{}", value)};
}
Cell boolean(bool value) {
  return {Cell::Kind::boolean, value ? "yes" : "", value ? "true" : "false"};
}

Cell share(std::uint64_t part, std::uint64_t whole) {
  if (whole == 0) return {};
  const double fraction = static_cast<double>(part) / static_cast<double>(whole);
  return {Cell::Kind::number, fmt::format("{:.1f}%", 100 * fraction), fmt::format("{}", fraction)};
}

Cell number(double value, int digits) {
  return {Cell::Kind::number, fmt::format("{:.{}f}", value, digits), fmt::format("{}", value)};
}

Cell value(const Value& value, Type type, std::string_view format) {
  if (value.is_null()) return {};
  Cell cell{Cell::Kind::text, base::format_value(value, type, format), to_text(value, type)};
  if (type.is_number()) cell.kind = Cell::Kind::number;
  if (type.kind == TypeKind::boolean) cell.kind = Cell::Kind::boolean;
  return cell;
}

Cell bar(std::uint64_t part, std::uint64_t whole, std::size_t width) {
  static constexpr std::array<std::string_view, 8> eighths{"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"};
  if (whole == 0) return {};
  const auto units = static_cast<std::size_t>(
      std::llround(static_cast<double>(part) / static_cast<double>(whole) * static_cast<double>(width) * 8));
  std::string drawn;
  for (std::size_t i = 0; i < units / 8; ++i) drawn += "█";
  drawn += eighths[units % 8];
  return {Cell::Kind::text, drawn, ""};
}

}  // namespace juniper::report_cells
