#include "juniper/compare.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unordered_map>

#include "base/exact.h"
#include "base/format.h"

namespace juniper {

namespace {

std::string shown(const Value& value, Type type) {
  if (value.is_null()) return "null";
  if (type.kind == TypeKind::text) return fmt::format("\"{}\"", value.text());
  return to_text(value, type);
}

std::string change_between(const Value& expected, const Value& found, Type type) {
  if (expected.is_null() || found.is_null()) return "";
  if (type.kind == TypeKind::real) return fmt::format("{:+}", found.real() - expected.real());
  int128 change = 0;
  if (!type.is_exact_number() || __builtin_sub_overflow(found.exact(), expected.exact(), &change)) return "";
  return (change > 0 ? "+" : "") + base::exact_text(change, type.scale);
}

// What names a row: its level and its keys.
std::string name_of(const QueryResult& result, const ResultRow& row) {
  std::string name;
  for (std::size_t i = 0; i < result.columns.size(); ++i) {
    if (!result.columns[i].is_key || !result.kept[row.level][i]) continue;
    name += fmt::format("{}{} = {}", name.empty() ? "" : ", ", result.columns[i].name,
                        shown(row.cells[i], result.columns[i].type));
  }
  if (row.level != 0) name = fmt::format("{}{}{}", "total ", result.levels[row.level], name.empty() ? "" : ": " + name);
  return name.empty() ? "the only row" : name;
}

// Numbers of different scales are compared as numbers; that the scale has changed is a difference of its own.
bool are_comparable(Type a, Type b) {
  return a == b || (a.is_exact_number() && b.is_exact_number());
}

Value rescaled(const Value& value, Type type, Type common) {
  if (value.is_null() || type.scale == common.scale) return value;
  int128 scaled = 0;
  const bool fits = !__builtin_mul_overflow(value.exact(), base::power_of_ten(common.scale - type.scale), &scaled);
  return fits ? Value::of(scaled) : value;
}

class Comparer {
 public:
  Comparer(const QueryResult& expected, const QueryResult& found, std::size_t samples, const Tolerance& tolerance)
      : expected_(expected), found_(found), samples_(samples), tolerance_(tolerance) {}

  Comparison run() {
    comparison_.rows = expected_.rows.size();
    if (!same_columns()) return std::move(comparison_);
    std::unordered_map<std::string, std::size_t> where;
    for (std::size_t i = 0; i < found_.rows.size(); ++i) where.emplace(name_of(found_, found_.rows[i]), i);
    std::vector<bool> matched(found_.rows.size(), false);
    std::size_t last = 0;
    bool in_order = true;
    std::string out_of_place;
    for (const ResultRow& row : expected_.rows) {
      const std::string name = name_of(expected_, row);
      const auto at = where.find(name);
      if (at == where.end()) {
        add({DifferenceKind::missing_row, name, "", "", "", ""});
        continue;
      }
      matched[at->second] = true;
      if (at->second < last && in_order) {
        in_order = false;
        out_of_place = name;
      }
      last = std::max(last, at->second);
      compare_cells(name, row, found_.rows[at->second]);
    }
    for (std::size_t i = 0; i < found_.rows.size(); ++i) {
      if (!matched[i]) add({DifferenceKind::extra_row, name_of(found_, found_.rows[i]), "", "", "", ""});
    }
    if (!in_order) add({DifferenceKind::order, out_of_place, "", "", "", ""});
    return std::move(comparison_);
  }

 private:
  void add(Difference difference) {
    ++comparison_.differences;
    if (comparison_.samples.size() < samples_) comparison_.samples.push_back(std::move(difference));
  }

  static std::string describe(const ResultColumn& column) {
    return fmt::format("{}{} {}{}", column.is_key ? "by " : "", column.name, to_string(column.type),
                       column.format.empty() ? "" : fmt::format(" format \"{}\"", column.format));
  }

  // False when the columns can't be matched, so that no cell can be compared.
  bool same_columns() {
    bool comparable = expected_.columns.size() == found_.columns.size() && expected_.levels == found_.levels;
    const std::size_t count = std::max(expected_.columns.size(), found_.columns.size());
    for (std::size_t i = 0; i < count; ++i) {
      const std::string before = i < expected_.columns.size() ? describe(expected_.columns[i]) : "nothing";
      const std::string after = i < found_.columns.size() ? describe(found_.columns[i]) : "nothing";
      if (before == after) continue;
      add({DifferenceKind::columns, "", fmt::format("column {}", i + 1), before, after, ""});
      comparable = comparable && expected_.columns[i].name == found_.columns[i].name &&
                   are_comparable(expected_.columns[i].type, found_.columns[i].type) &&
                   expected_.columns[i].is_key == found_.columns[i].is_key;
    }
    if (expected_.levels != found_.levels) {
      add({DifferenceKind::columns, "", "totals", fmt::format("{}", fmt::join(expected_.levels, ", ")),
           fmt::format("{}", fmt::join(found_.levels, ", ")), ""});
    }
    return comparable;
  }

  void compare_cells(const std::string& name, const ResultRow& expected, const ResultRow& found) {
    for (std::size_t i = 0; i < expected_.columns.size(); ++i) {
      const ResultColumn& column = expected_.columns[i];
      if (column.is_key) continue;
      ++comparison_.cells;
      const Type other = found_.columns[i].type;
      const Type common = column.type.scale < other.scale ? other : column.type;
      const Value a = rescaled(expected.cells[i], column.type, common);
      const Value b = rescaled(found.cells[i], other, common);
      if (a == b || is_near(a, b)) continue;
      Difference difference{DifferenceKind::cell,
                            name,
                            column.name,
                            shown(expected.cells[i], column.type),
                            shown(found.cells[i], other),
                            change_between(a, b, common)};
      if (!column.format.empty() && comparison_.samples.size() < samples_) {
        difference.expected_formatted = base::ValueFormat(column.type, column.format).text(expected.cells[i]);
        difference.found_formatted = base::ValueFormat(other, found_.columns[i].format).text(found.cells[i]);
      }
      add(std::move(difference));
    }
  }

  bool is_near(const Value& a, const Value& b) const {
    if (a.kind() != Value::Kind::real || b.kind() != Value::Kind::real) return false;
    const double apart = std::abs(a.real() - b.real());
    return apart <= tolerance_.absolute ||
           apart <= tolerance_.relative * std::max(std::abs(a.real()), std::abs(b.real()));
  }

  const QueryResult& expected_;
  const QueryResult& found_;
  std::size_t samples_;
  const Tolerance& tolerance_;
  Comparison comparison_;
};

}  // namespace

Comparison compare(const QueryResult& expected, const QueryResult& found, std::size_t samples,
                   const Tolerance& tolerance) {
  return Comparer(expected, found, samples, tolerance).run();
}

}  // namespace juniper
