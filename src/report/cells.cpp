#include "report/cells.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

namespace juniper::report_cells {

TableColumn left(std::string name, std::string heading, Audience audience) {
  return {std::move(name), std::move(heading), false, audience};
}
TableColumn right(std::string name, std::string heading, Audience audience) {
  return {std::move(name), std::move(heading), true, audience};
}

Cell code(const std::string& text, std::size_t widest) {
  Cell cell{Cell::Kind::code, "", text};
  // Line breaks with the blanks around them are one blank.
  for (const char c : text) {
    const bool blank = c == '\n' || c == '\r' || c == '\t' || c == ' ';
    if (!blank || (!cell.shown.empty() && cell.shown.back() != ' ')) cell.shown += blank ? ' ' : c;
  }
  if (cell.shown.size() > widest) {
    std::size_t end = widest;
    while (end > 0 && (static_cast<unsigned char>(cell.shown[end]) & 0xC0) == 0x80) --end;
    cell.shown = cell.shown.substr(0, end) + "…";
  }
  return cell;
}

Cell place(const Place& place) {
  Cell cell = text(place.line == 0 ? "" : fmt::format("{}:{}:{}", place.file, place.line, place.column));
  cell.kind = Cell::Kind::place;
  return cell;
}

Cell text(std::string value) {
  return {Cell::Kind::text, value, value};
}
Cell count(std::uint64_t value) {
  return {Cell::Kind::count, base::grouped(value), fmt::format("{}", value)};
}
Cell bytes(std::uint64_t value) {
  return {Cell::Kind::bytes, base::format_bytes(value), fmt::format("{}", value)};
}
Cell nanoseconds(std::int64_t value) {
  return {Cell::Kind::duration, base::format_nanoseconds(value), fmt::format("{}", value)};
}
Cell boolean(bool value) {
  return {Cell::Kind::boolean, value ? "yes" : "", value ? "true" : "false"};
}

Cell share(std::uint64_t part, std::uint64_t whole) {
  if (whole == 0) return {};
  const double fraction = static_cast<double>(part) / static_cast<double>(whole);
  return {Cell::Kind::share, fmt::format("{:.1f}%", 100 * fraction), fmt::format("{}", fraction)};
}

Cell number(double value, int digits) {
  return {Cell::Kind::number, fmt::format("{:.{}f}", value, digits), fmt::format("{}", value)};
}

Cell ratio(double value) {
  return {Cell::Kind::ratio, fmt::format("{:.3f}", value), fmt::format("{}", value)};
}

Cell value(const Value& value, const base::ValueFormat& format) {
  if (value.is_null()) return {};
  const Type type = format.type();
  Cell cell{Cell::Kind::text, format.text(value), {}};
  cell.exact = format.is_exact() ? cell.shown : to_text(value, type);
  if (type.is_number()) cell.kind = Cell::Kind::number;
  if (type.kind == TypeKind::boolean) cell.kind = Cell::Kind::boolean;
  return cell;
}

std::string level_name(const QueryResult& result) {
  std::string name = "level";
  const auto is_taken = [&](const ResultColumn& column) { return column.name == name; };
  while (std::any_of(result.columns.begin(), result.columns.end(), is_taken)) name += "_";
  return name;
}

Cell bytes_change(std::int64_t change) {
  const std::string size = base::format_bytes(static_cast<std::uint64_t>(std::abs(change)));
  return {Cell::Kind::change, change == 0 ? "0" : (change > 0 ? "+" : "−") + size, std::to_string(change)};
}

void leave_to_programs(Table& table, std::string_view column) {
  for (TableColumn& each : table.columns) {
    if (each.name == column) each.audience = Audience::programs;
  }
}

void give_way(Table& table, std::initializer_list<std::string_view> columns) {
  auto rank = static_cast<std::uint8_t>(columns.size());
  for (const std::string_view name : columns) {
    for (TableColumn& each : table.columns) {
      if (each.name == name) each.gives_way = rank;
    }
    --rank;
  }
}

void compare_by(Table& table, std::string_view column) {
  for (TableColumn& each : table.columns) each.is_compared = each.is_compared || each.name == column;
}

std::string plural(std::uint64_t count, std::string word) {
  if (count != 1 && word.ends_with('y')) word.replace(word.size() - 1, 1, "ie");
  return fmt::format("{} {}{}", base::grouped(count), word, count == 1 ? "" : "s");
}

std::string joined(const std::vector<std::string>& parts, std::string_view between) {
  std::string out;
  for (const std::string& part : parts) out += (out.empty() ? "" : std::string(between)) + part;
  return out;
}

}  // namespace juniper::report_cells
