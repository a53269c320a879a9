#include "store/column.h"

#include <algorithm>
#include <bit>

#include "base/passes.h"
#include "source/column_input.h"

namespace juniper::store {

double Column::real_of(std::uint64_t code) const {
  return layout == Layout::dictionary ? numbers.real(code) : std::bit_cast<double>(code);
}

Value Column::value_of(std::uint64_t code) const {
  if (code == null_code) return {};
  if (type.kind == TypeKind::text) return Value::of(std::string(text_of(code)));
  if (type.kind == TypeKind::real) return Value::of(real_of(code));
  return Value::of(static_cast<int128>(exact_of(code)));
}

std::uint64_t Column::codes_before(const Value& value) const {
  if (layout == Layout::offset) {
    const auto width = static_cast<int128>(step);
    const int128 above = value.exact() - base;
    return static_cast<std::uint64_t>(
        std::clamp(above <= 0 ? int128{0} : (above + width - 1) / width, int128{0}, static_cast<int128>(null_code)));
  }
  std::uint64_t low = 0;
  std::uint64_t high = distinct;
  while (low < high) {
    const std::uint64_t middle = low + (high - low) / 2;
    if (compare(value_of(middle), value) < 0) {
      low = middle + 1;
    } else {
      high = middle;
    }
  }
  return low;
}

std::optional<std::uint64_t> Column::code_of(const Value& value) const {
  if (value.is_null()) return null_code;
  if (layout == Layout::bits) return std::bit_cast<std::uint64_t>(value.real());
  const std::uint64_t code = codes_before(value);
  const std::uint64_t end = layout == Layout::offset ? null_code : distinct;
  return code < end && compare(value_of(code), value) == 0 ? std::optional(code) : std::nullopt;
}

source::ColumnInput chosen_rows(const Column& column, std::span<const std::uint64_t> rows) {
  std::vector<std::uint64_t> codes(block_rows);
  std::size_t decoded = column.codes.blocks();  // no block yet
  return source::column_of(column.type, rows.size(),
                           [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
                             for (std::size_t i = begin; i < end; ++i) {
                               if (rows[i] / block_rows != decoded) {
                                 decoded = rows[i] / block_rows;
                                 column.codes.decode_block(decoded, codes.data());
                               }
                               const std::uint64_t code = codes[rows[i] % block_rows];
                               const bool null = code == column.null_code;
                               piece.is_null.push_back(null ? 1 : 0);
                               if (column.type.kind == TypeKind::text) {
                                 piece.text.push_back(null ? std::string_view() : column.text_of(code));
                               } else if (column.type.kind == TypeKind::real) {
                                 piece.real.push_back(null ? 0 : column.real_of(code));
                               } else {
                                 piece.exact.push_back(null ? 0 : column.exact_of(code));
                               }
                             }
                           });
}

std::string Column::describe() const {
  const std::string blocks = codes.describe();
  return has_dictionary() ? "dictionary, " + blocks : (layout == Layout::bits ? "bits, " + blocks : blocks);
}

void Column::set_codes(Codes others) {
  codes = std::move(others);
  encoding = describe();
}

bool Column::says_true() const {
  // Each code that is used: as a bit, or in a list where few of very many are.
  const bool in_list = layout == Layout::bits || null_code / block_rows > rows;
  std::vector<std::uint64_t> used(in_list ? 0 : null_code / 64 + 1, 0);
  std::vector<std::uint64_t> block(block_rows);
  std::uint64_t null_rows = 0;
  for (std::size_t b = 0; b < codes.blocks(); ++b) {
    codes.decode_block(b, block.data());
    for (std::size_t i = 0; i < codes.rows_in_block(b); ++i) {
      if (block[i] == null_code) {
        ++null_rows;
      } else if (in_list) {
        used.push_back(block[i]);
      } else {
        used[block[i] / 64] |= std::uint64_t{1} << block[i] % 64;
      }
    }
  }
  if (null_rows != nulls) return false;
  if (in_list) {
    std::sort(used.begin(), used.end(), [&](std::uint64_t a, std::uint64_t b) {
      return layout == Layout::bits ? real_of(a) < real_of(b) : a < b;
    });
    used.erase(std::unique(used.begin(), used.end()), used.end());
    return used.size() == distinct &&
           (used.empty() || (value_of(used.front()) == least && value_of(used.back()) == most));
  }
  if (base::count_ones(used) != distinct) return false;
  if (distinct == 0) return true;
  // Codes are ordered as values are: the first and the last of them must be there.
  const auto is_used = [&](std::uint64_t code) { return (used[code / 64] >> code % 64 & 1) != 0; };
  if (!is_used(0) || !is_used(null_code - 1) || value_of(0) != least || value_of(null_code - 1) != most) return false;
  if (type.kind != TypeKind::text) return true;
  for (std::uint64_t code = 1; code < distinct; ++code) {
    if (text_of(code - 1) >= text_of(code)) return false;
  }
  return true;
}

void Column::verify() const {
  codes.verify();
  if (!has_dictionary()) return;
  if (type.kind == TypeKind::text) {
    texts.verify();
  } else {
    numbers.verify();
  }
}

}  // namespace juniper::store
