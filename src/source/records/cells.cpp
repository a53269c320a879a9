#include "source/records/cells.h"

#include <fmt/format.h>
#include <utf8.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <optional>

#include "base/exact.h"
#include "source/cell.h"
#include "source/spelling.h"

namespace juniper::source {

void Cells::add_row(std::uint32_t line) {
  for (auto& column : columns_) column.emplace_back();
  lines_.push_back(line);
}

void Cells::drop_row() {
  for (auto& column : columns_) column.pop_back();
  lines_.pop_back();
}

std::string_view Cells::keep(std::string_view text) {
  if (text.empty()) return {};
  char* const kept = texts_.take(text.size());
  std::memcpy(kept, text.data(), text.size());
  kept_bytes_ += text.size();
  return {kept, text.size()};
}

std::string text_of(const Cell& cell) {
  switch (cell.kind) {
    case Cell::Kind::null:
      return "";
    case Cell::Kind::integer:
      return std::to_string(cell.integer);
    case Cell::Kind::real:
      return fmt::format("{}", cell.real);
    case Cell::Kind::plain:
    case Cell::Kind::text:
      return std::string(cell.text);
  }
  return "";
}

namespace {

// A number with an exponent, "1.5e3", as one without; nothing for what is none, or would be very long.
std::optional<std::string> without_exponent(std::string_view text) {
  const std::size_t mark = text.find_first_of("eE");
  if (mark == std::string_view::npos) return std::nullopt;
  const auto exponent = base::parse_exact(text.substr(mark + (text.substr(mark + 1).starts_with('+') ? 2 : 1)), 0);
  constexpr std::size_t most = 40;
  if (!exponent || *exponent > int{most} || *exponent < -int{most}) return std::nullopt;
  std::string_view digits = text.substr(0, mark);
  const bool is_negative = digits.starts_with('-');
  if (is_negative) digits.remove_prefix(1);
  const std::size_t point = std::min(digits.find('.'), digits.size());
  // Zeros on both sides, as many as the point can move; the number's own form takes them off again.
  const std::string zeros(most + 1, '0');
  const std::string all = fmt::format("{}{}{}{}", zeros, digits.substr(0, point),
                                      point < digits.size() ? digits.substr(point + 1) : std::string_view(), zeros);
  if (digits.empty() || all.find_first_not_of("0123456789") != std::string::npos) return std::nullopt;
  const std::size_t moved = point + static_cast<std::size_t>(static_cast<int>(*exponent) + int{most} + 1);
  const std::string_view whole = std::string_view(all).substr(0, moved);
  const std::string_view behind = std::string_view(all).substr(moved);
  const std::size_t first = std::min(whole.find_first_not_of('0'), whole.size() - 1);
  return fmt::format("{}{}.{}", is_negative ? "-" : "", whole.substr(first), behind);
}

bool is_number(Type type) {
  return type.kind == TypeKind::integer || type.kind == TypeKind::decimal;
}

class Reading {
 public:
  Reading(const ColumnRequest& request, const base::Spelling& spelling) : request_(request), spelling_(spelling) {}

  bool is_null(const Cell& cell) const {
    if (cell.is_null()) return true;
    const bool is_text = cell.kind == Cell::Kind::text;
    const bool is_nan = cell.kind == Cell::Kind::real && std::isnan(cell.real);
    return (is_text || is_nan) && is_null_word(is_nan ? "NaN" : cell.text, false, spelling_);
  }

  // False for a cell that does not fit.
  bool read(const Cell& cell, double& out) const {
    if (cell.kind == Cell::Kind::real) {
      out = cell.real;
      return std::isfinite(out);
    }
    constexpr std::int64_t most_exact = std::int64_t{1} << 53;
    if (cell.kind == Cell::Kind::integer && std::abs(cell.integer) <= most_exact) {
      out = static_cast<double>(cell.integer);
      return true;
    }
    const auto text = here(cell);
    const auto value = text ? parse_value(*text, request_.type) : std::nullopt;
    if (!value || value->is_null()) return false;
    out = value->real();
    return std::isfinite(out);
  }

  bool read(const Cell& cell, std::int64_t& out) const {
    const TypeKind kind = request_.type.kind;
    if (cell.kind == Cell::Kind::integer && request_.part == base::FieldPart::whole &&
        (kind == TypeKind::integer || kind == TypeKind::boolean)) {
      out = cell.integer;
      return kind == TypeKind::integer || out == 0 || out == 1;
    }
    const auto text = here(cell);
    if (!text) return false;
    if (parse(*text, out)) return true;
    if (cell.kind == Cell::Kind::text || !is_number(request_.type)) return false;
    const auto written_out = without_exponent(*text);
    return written_out && parse(*written_out, out);
  }

 private:
  // The text as it would be here.
  std::optional<std::string> here(const Cell& cell) const {
    if (cell.kind != Cell::Kind::text || spelling_.is_plain()) return text_of(cell);
    return respelled(cell.text, request_.type, request_.part, spelling_);
  }

  bool parse(std::string_view text, std::int64_t& out) const {
    const auto value = parse_cell(text, request_.type, request_.part);
    if (value) out = *value;
    return value.has_value();
  }

  const ColumnRequest& request_;
  const base::Spelling& spelling_;
};

}  // namespace

void values_of(const Cells& cells, std::size_t column, const ColumnRequest& request, const base::Spelling& spelling,
               const std::vector<std::uint8_t>& left_out, PieceValues& values, std::deque<std::string>& texts,
               std::vector<MisfitCell>& bad) {
  const Reading reading(request, spelling);
  values.clear();
  for (std::uint32_t row = 0; row < cells.rows(); ++row) {
    if (!left_out.empty() && left_out[row] != 0) continue;
    const Cell& cell = cells.at(row, column);
    const bool is_null = reading.is_null(cell);
    values.is_null.push_back(is_null ? 1 : 0);
    if (request.type.kind == TypeKind::text) {
      const bool is_own = cell.kind == Cell::Kind::text || cell.kind == Cell::Kind::plain;
      const std::string_view text =
          is_null ? std::string_view() : (is_own ? cell.text : std::string_view(texts.emplace_back(text_of(cell))));
      if (!utf8::is_valid(text.begin(), text.end())) bad.push_back({row, column, CellMisfit::utf8});
      values.text.push_back(text);
    } else if (request.type.kind == TypeKind::real) {
      double real = 0;
      if (!is_null && !reading.read(cell, real)) bad.push_back({row, column, CellMisfit::type});
      values.real.push_back(real);
    } else {
      std::int64_t exact = 0;
      if (!is_null && !reading.read(cell, exact)) bad.push_back({row, column, CellMisfit::type});
      values.exact.push_back(exact);
    }
  }
}

}  // namespace juniper::source
