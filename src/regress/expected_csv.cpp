#include "regress/expected_csv.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>
#include <set>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "source/csv/records.h"

namespace juniper::regress {

namespace {

// A number as it was given: so many units of its last digit.
struct Given {
  double number = 0;
  std::optional<int128> units;  // nothing where it has an exponent, or too many digits
  int digits = 0;               // behind the point
};

class CsvComparer {
 public:
  CsvComparer(const QueryResult& found, const std::string& file, const std::string& text, std::size_t samples,
              const Tolerance& tolerance)
      : found_(found), file_(file), text_(text), samples_(samples), tolerance_(tolerance), seen_(found.rows.size()) {}

  Result<Comparison> run() {
    if (text_.size() > source::most_piece_bytes) return fail(0, "it is larger than 1 GB");
    records_.read(source::as_piece(text_), ',', 0);
    if (records_.end()) return fail(records_.end()->line + 1, records_.end()->message);
    for (const source::BadRecord& bad : records_.bad_records()) return fail(bad.line + 1, bad.message);
    if (auto header = read_header(); !header) return tl::unexpected(header.error());
    for (std::size_t row = 1; row < records_.rows(); ++row) {
      if (auto compared = compare_row(row); !compared) return tl::unexpected(compared.error());
    }
    for (std::size_t r = 0; r < found_.rows.size(); ++r) {
      if (!seen_[r] && found_.rows[r].level == 0)
        add({DifferenceKind::extra_row, name_of(found_.rows[r]), "", "", "", ""});
    }
    return std::move(comparison_);
  }

 private:
  tl::unexpected<Diagnostics> fail(std::uint32_t line, std::string message) const {
    return tl::unexpected(base::error_at("JR-905", Place{file_, line, 0}, std::move(message),
                                         "a header of the query's columns, and a line for each of its rows"));
  }
  std::uint32_t line_of(std::size_t row) const { return records_.line_of(row) + 1; }
  std::string cell(std::size_t row, std::size_t column) {
    std::string scratch;
    return std::string(records_.text(records_.field(row, column), scratch));
  }

  Result<void> read_header() {
    if (records_.rows() == 0) return fail(1, "the file is empty");
    std::set<std::size_t> named;
    for (std::size_t c = 0; c < records_.width(); ++c) {
      const std::string name = cell(0, c);
      const auto at = std::find_if(found_.columns.begin(), found_.columns.end(),
                                   [&](const ResultColumn& column) { return column.name == name; });
      if (at == found_.columns.end()) return fail(1, fmt::format("the query has no column '{}'", name));
      columns_.push_back(static_cast<std::size_t>(at - found_.columns.begin()));
      if (!named.insert(columns_.back()).second) return fail(1, fmt::format("'{}' stands here twice", name));
    }
    for (std::size_t i = 0; i < found_.columns.size(); ++i) {
      if (found_.columns[i].is_key && !named.contains(i))
        return fail(1, fmt::format("the key '{}' is missing", found_.columns[i].name));
    }
    return {};
  }

  Result<void> compare_row(std::size_t row) {
    std::vector<std::optional<Value>> keys(found_.columns.size());
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      const ResultColumn& column = found_.columns[columns_[c]];
      if (!column.is_key) continue;
      keys[columns_[c]].emplace();
      if (records_.field(row, c).is_null()) continue;
      const auto value = parse_value(cell(row, c), column.type);
      if (!value)
        return fail(line_of(row),
                    fmt::format("'{}' is not {} ({})", cell(row, c), juniper::to_string(column.type), column.name));
      keys[columns_[c]] = *value;
    }
    const auto at = find(keys);
    ++comparison_.rows;
    if (!at) {
      std::string name;
      for (std::size_t i = 0; i < keys.size(); ++i) {
        if (keys[i])
          name += fmt::format("{}{} = {}", name.empty() ? "" : ", ", found_.columns[i].name, shown(*keys[i], i));
      }
      add({DifferenceKind::missing_row, name.empty() ? "the only row" : name, "", "", "", ""});
      return {};
    }
    seen_[*at] = true;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      if (found_.columns[columns_[c]].is_key) continue;
      if (auto compared = compare_cell(row, c, found_.rows[*at]); !compared) return compared;
    }
    return {};
  }

  // The detail row with these keys; else a total whose keys are these, and which keeps none of those that are empty.
  std::optional<std::size_t> find(const std::vector<std::optional<Value>>& keys) const {
    const auto matches = [&](const ResultRow& row) {
      for (std::size_t i = 0; i < keys.size(); ++i) {
        if (!keys[i]) continue;
        const bool kept = row.level == 0 || found_.kept[row.level][i];
        if (kept ? row.cells[i] != *keys[i] : !keys[i]->is_null()) return false;
      }
      return true;
    };
    for (const bool totals : {false, true}) {
      for (std::size_t r = 0; r < found_.rows.size(); ++r) {
        if ((found_.rows[r].level != 0) == totals && matches(found_.rows[r])) return r;
      }
    }
    return std::nullopt;
  }

  Result<void> compare_cell(std::size_t row, std::size_t c, const ResultRow& found) {
    const std::size_t i = columns_[c];
    const ResultColumn& column = found_.columns[i];
    const Value& is = found.cells[i];
    ++comparison_.cells;
    const std::string text = cell(row, c);
    bool same = false;
    if (records_.field(row, c).is_null()) {
      same = is.is_null();
    } else if (column.type.is_number()) {
      const auto given = read_number(text);
      if (!given) return fail(line_of(row), fmt::format("'{}' is not a number ({})", text, column.name));
      same = !is.is_null() && is_near(*given, is, column.type);
    } else {
      const auto value = parse_value(text, column.type);
      if (!value)
        return fail(line_of(row),
                    fmt::format("'{}' is not {} ({})", text, juniper::to_string(column.type), column.name));
      same = is == *value;
    }
    if (!same) add({DifferenceKind::cell, name_of(found), column.name, text.empty() ? "null" : text, shown(is, i), ""});
    return {};
  }

  static std::optional<Given> read_number(const std::string& text) {
    Given given;
    const auto real = parse_value(text, {TypeKind::real, 0});
    if (!real) return std::nullopt;
    given.number = real->real();
    if (const std::size_t point = text.find('.'); point != std::string::npos)
      given.digits = static_cast<int>(text.size() - point - 1);
    if (given.digits <= base::max_scale) {
      if (const auto exact = parse_value(text, {TypeKind::decimal, static_cast<std::uint8_t>(given.digits)}))
        given.units = exact->exact();
    }
    return given;
  }

  bool is_near(const Given& given, const Value& is, Type type) const {
    if (type.is_exact_number() && given.units) {
      if (given.digits < type.scale)
        return base::divide_rounded(is.exact(), base::power_of_ten(type.scale - given.digits)) == *given.units;
      int128 scaled = 0;
      return !__builtin_mul_overflow(is.exact(), base::power_of_ten(given.digits - type.scale), &scaled) &&
             scaled == *given.units;
    }
    const double number = type.is_exact_number() ? base::to_real(is.exact(), type.scale) : is.real();
    const double apart = std::abs(number - given.number);
    // Half a unit of the last digit that was given, and what sums in binary may be off by.
    const double half = given.units ? 0.5 * std::pow(10.0, -given.digits) : 0;
    const double least = 1e-12 * std::max(std::abs(number), std::abs(given.number));
    return apart <= half + least || apart <= tolerance_.absolute ||
           apart <= tolerance_.relative * std::max(std::abs(number), std::abs(given.number));
  }

  std::string shown(const Value& value, std::size_t column) const {
    return value.is_null() ? "null" : to_text(value, found_.columns[column].type);
  }
  std::string name_of(const ResultRow& row) const {
    std::string name;
    for (std::size_t i = 0; i < found_.columns.size(); ++i) {
      if (found_.columns[i].is_key && found_.kept[row.level][i])
        name += fmt::format("{}{} = {}", name.empty() ? "" : ", ", found_.columns[i].name, shown(row.cells[i], i));
    }
    return name.empty() ? (row.level == 0 ? "the only row" : found_.levels[row.level]) : name;
  }
  void add(Difference difference) {
    ++comparison_.differences;
    if (comparison_.samples.size() < samples_) comparison_.samples.push_back(std::move(difference));
  }

  const QueryResult& found_;
  const std::string& file_;
  std::string text_;
  std::size_t samples_;
  const Tolerance& tolerance_;
  source::CsvRecords records_;
  std::vector<std::size_t> columns_;  // of the result, for each of the file
  std::vector<bool> seen_;
  Comparison comparison_;
};

}  // namespace

Result<Comparison> compare_with_csv(const QueryResult& found, const std::string& file, const std::string& text,
                                    std::size_t samples, const Tolerance& tolerance) {
  return CsvComparer(found, file, text, samples, tolerance).run();
}

}  // namespace juniper::regress
