// Cells of documents, and the words that stand in them.
#pragma once

#include <cstdint>
#include <initializer_list>
#include <string>
#include <string_view>
#include <vector>

#include "base/format.h"
#include "juniper/ask.h"
#include "juniper/diagnostics.h"
#include "juniper/document.h"
#include "juniper/value.h"

namespace juniper::report_cells {

TableColumn left(std::string name, std::string heading, Audience audience = Audience::all);
TableColumn right(std::string name, std::string heading, Audience audience = Audience::all);

Cell text(std::string value);
// A part of a model text: for people on one line, of about so many bytes.
Cell code(const std::string& text, std::size_t widest);
// "charging.ridge:12:3"; nothing for what has no place.
Cell place(const Place& place);
Cell count(std::uint64_t value);
Cell bytes(std::uint64_t value);
Cell nanoseconds(std::int64_t value);
Cell boolean(bool value);
// `part` of `whole`, as a percentage for people and a fraction for programs; null when the whole is nothing.
Cell share(std::uint64_t part, std::uint64_t whole);
// A plain number with `digits` digits after the point.
Cell number(double value, int digits);
// How many times as large something is: 1 where it is the same.
Cell ratio(double value);
// A value of the model by its format; make that once for all values of a column.
Cell value(const Value& value, const base::ValueFormat& format);
// The format of each column.
template <class Columns>
std::vector<base::ValueFormat> formats_of(const Columns& columns) {
  std::vector<base::ValueFormat> formats;
  formats.reserve(columns.size());
  for (const auto& column : columns) formats.emplace_back(column.type, column.format);
  return formats;
}
// What the column is called that tells totals from rows: `level`, unless the query has a column of that name.
std::string level_name(const QueryResult& result);

// "+1.2 MB", "−340 B"
Cell bytes_change(std::int64_t change);

// Leaves the column with that name to programs.
void leave_to_programs(Table& table, std::string_view column);
// Where there is no room, these columns are left out, the first of them first.
void give_way(Table& table, std::initializer_list<std::string_view> columns);
// Rows are compared by the figures of this column.
void compare_by(Table& table, std::string_view column);

// "1 row", "3 rows", "2 queries"
std::string plural(std::uint64_t count, std::string word);
std::string joined(const std::vector<std::string>& parts, std::string_view between);

}  // namespace juniper::report_cells
