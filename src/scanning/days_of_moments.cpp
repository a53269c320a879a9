#include "scanning/days_of_moments.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_set.hpp>

#include "base/calendar.h"
#include "source/column_input.h"

namespace juniper::scanning {

namespace {

// The day of each row; nothing where it is null.
std::vector<std::optional<std::int64_t>> days_of(const store::Column& moments) {
  std::vector<std::optional<std::int64_t>> days;
  days.reserve(moments.rows);
  for (const std::uint64_t code : moments.codes.decoded()) {
    if (moments.nulls != 0 && code == moments.null_code) {
      days.emplace_back();
    } else {
      days.emplace_back(base::floor_divide(moments.exact_of(code), base::microseconds_per_day));
    }
  }
  return days;
}

// Whether most days of some column stand in the calendar.
bool is_linked(const FoundTable& table, const boost::unordered_flat_set<std::int64_t>& calendar) {
  return std::any_of(table.columns.begin(), table.columns.end(), [&](const FoundColumn& column) {
    const store::Column& data = column.data;
    if (data.type.kind != TypeKind::date || data.nulls == data.rows) return false;
    std::uint64_t there = 0;
    for (const std::uint64_t code : data.codes.decoded()) {
      const bool is_null = data.nulls != 0 && code == data.null_code;
      there += !is_null && calendar.contains(data.exact_of(code)) ? 1 : 0;
    }
    return there * 2 >= data.rows - data.nulls;
  });
}

std::string free_name(const FoundTable& table, const std::string& name) {
  std::string free = name + "_day";
  const auto is_taken = [&] {
    return std::any_of(table.columns.begin(), table.columns.end(),
                       [&](const FoundColumn& c) { return c.name == free; });
  };
  while (is_taken()) free += "_2";
  return free;
}

}  // namespace

void add_days_of_moments(FoundTable& table, const store::Column& calendar) {
  boost::unordered_flat_set<std::int64_t> known;
  for (std::uint64_t row = 0; row < calendar.rows; ++row) {
    const Value day = calendar.at(row);
    if (!day.is_null()) known.insert(static_cast<std::int64_t>(day.exact()));
  }
  if (is_linked(table, known)) return;
  const std::size_t columns = table.columns.size();
  for (std::size_t c = 0; c < columns; ++c) {
    if (table.columns[c].data.type.kind != TypeKind::datetime) continue;
    const auto days = days_of(table.columns[c].data);
    const auto count = [&](const auto& is_counted) { return std::count_if(days.begin(), days.end(), is_counted); };
    const auto there = count([&](const auto& day) { return day && known.contains(*day); });
    const auto all = count([](const auto& day) { return day.has_value(); });
    if (all == 0 || there * 2 < all) continue;
    FoundColumn column;
    column.header = table.columns[c].header;
    column.name = free_name(table, table.columns[c].name);
    column.part = base::FieldPart::date;
    column.data = store::encode_column(source::column_of(
        {TypeKind::date, 0}, days.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& values) {
          for (std::size_t row = begin; row < end; ++row) {
            values.is_null.push_back(days[row] ? 0 : 1);
            values.exact.push_back(days[row].value_or(0));
          }
        }));
    table.columns.push_back(std::move(column));
  }
}

}  // namespace juniper::scanning
