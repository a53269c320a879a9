#include "report/comparisons.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>

#include "report/cells.h"

namespace juniper {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;

namespace {

constexpr std::uint64_t most_shown = 5;  // differences of a query, to people

// The number that an exact text holds, if it is one with as many digits as a real may have: what is shorter can be read.
std::optional<double> long_number(const std::string& text) {
  constexpr std::ptrdiff_t readable = 12;
  const std::string_view size = std::string_view(text).substr(0, text.find('e'));
  if (std::count_if(size.begin(), size.end(), [](char c) { return c >= '0' && c <= '9'; }) <= readable)
    return std::nullopt;
  double number = 0;
  const char* const begin = text.data() + (text.front() == '+' ? 1 : 0);
  const auto [end, problem] = fast_float::from_chars(begin, text.data() + text.size(), number);
  if (problem != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return number;
}

// Two numbers for people: with the digits that tell them apart, and two more.
void shorten(Cell& expected, Cell& found, Cell& change) {
  const auto was = long_number(expected.shown);
  const auto is = long_number(found.shown);
  if (const auto by = long_number(change.shown)) change.shown = fmt::format("{:+.3g}", *by);
  if (!was && !is) return;
  const auto number = [](const std::optional<double>& value, const Cell& cell) {
    double read = 0;
    if (!value) fast_float::from_chars(cell.shown.data(), cell.shown.data() + cell.shown.size(), read);
    return value.value_or(read);
  };
  constexpr int most_digits = 17;
  int digits = 4;
  while (digits < most_digits &&
         fmt::format("{:#.{}g}", number(was, expected), digits) == fmt::format("{:#.{}g}", number(is, found), digits))
    ++digits;
  digits = std::min(digits + 2, most_digits);
  if (was) expected.shown = fmt::format("{:#.{}g}", *was, digits);
  if (is) found.shown = fmt::format("{:#.{}g}", *is, digits);
}

// The exact value as reports show it, in front of it: "1,061.13 (1061.1349)"; alone where it says as much.
void add_format(Cell& cell, const std::string& formatted) {
  if (formatted.empty()) return;
  std::string plain = formatted;
  std::erase(plain, ',');
  if (plain == cell.shown) {
    cell.shown = formatted;
    return;
  }
  cell.shown = fmt::format("{} ({})", formatted, cell.shown);
}

}  // namespace

Table difference_table(const std::vector<std::pair<std::string, Comparison>>& compared) {
  static constexpr std::array kinds{"differs", "row is missing", "row is new", "order differs", "column differs"};
  Table table{"differences",
              InCsv::with_all,
              {left("query", "query"), left("kind", "what"), left("row", "row"), left("column", "column"),
               right("expected", "expected"), right("found", "found"), right("change", "change")},
              {}};
  for (const auto& [query, comparison] : compared) {
    std::uint64_t listed = 0;
    for (const Difference& d : comparison.samples) {
      TableRow& row = table.rows.emplace_back();
      if (++listed > most_shown) row.audience = Audience::programs;
      row.cells = {cell::text(query),      cell::text(kinds[static_cast<std::size_t>(d.kind)]),
                   cell::text(d.row),      cell::text(d.column),
                   cell::text(d.expected), cell::text(d.found),
                   cell::text(d.change)};
      if (d.kind != DifferenceKind::cell) continue;
      shorten(row.cells[4], row.cells[5], row.cells[6]);
      add_format(row.cells[4], d.expected_formatted);
      add_format(row.cells[5], d.found_formatted);
    }
    if (comparison.differences > most_shown) {
      TableRow& more = table.rows.emplace_back();
      more.audience = Audience::people;
      more.cells = {cell::text(query), cell::text(fmt::format("and {} more", comparison.differences - most_shown))};
      more.cells.resize(table.columns.size());
    }
  }
  return table;
}

void add_narrowing(const Narrowing& narrowing, const std::string& prefix, Report& made) {
  if (!narrowing.sources.empty()) {
    Table sources{prefix + "sources",
                  InCsv::with_all,
                  {left("column", "column"), right("share", "carry"), right("count", "values"),
                   right("of_values", "of"), left("values", "these, with what each carries")},
                  {}};
    for (const DifferenceSource& s : narrowing.sources) {
      sources.rows.push_back({{cell::text(s.column),
                               {Cell::Kind::share, fmt::format("{:.1f}%", 100 * s.share), fmt::format("{}", s.share)},
                               cell::count(s.values.size()),
                               cell::count(s.of_values),
                               cell::text(fmt::format("{}", fmt::join(s.values, ", ")))},
                              false});
    }
    made.blocks.push_back(Heading{"Where it comes from, each line within the one above"});
    made.blocks.push_back(std::move(sources));
  }
  if (!narrowing.rows.empty()) {
    Table rows{prefix + "rows", InCsv::with_all, {}, {}};
    const std::size_t keys = narrowing.row_columns.size() - 2;
    for (std::size_t c = 0; c < narrowing.row_columns.size(); ++c) {
      const ResultColumn& column = narrowing.row_columns[c];
      const std::string name = c < keys ? column.name : (c == keys ? "base" : "other");
      rows.columns.push_back({name, column.name, column.type.is_number(), Audience::all});
    }
    const auto formats = cell::formats_of(narrowing.row_columns);
    for (const DifferenceRow& row : narrowing.rows) {
      std::vector<Value> cells = row.cells;
      cells.push_back(row.base);
      cells.push_back(row.other);
      TableRow line;
      for (std::size_t c = 0; c < cells.size(); ++c) {
        line.cells.push_back(cell::value(cells[c], formats[c]));
        if (cells[c].is_null()) line.cells.back().shown = "null";
      }
      rows.rows.push_back(std::move(line));
    }
    made.blocks.push_back(Heading{"Rows that carry most of it"});
    made.blocks.push_back(std::move(rows));
  }
}

}  // namespace juniper
