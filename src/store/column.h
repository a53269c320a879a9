// One encoded column: codes, and what each code means.
//
//   dictionary   code i means the i-th of the distinct values in ascending order; the code after the last is null
//   offset       code i means base + i * step; the code after the last value's is null
//   bits         the code is the bit pattern of a double; one NaN pattern is null
//
// In the first two, codes are ordered as the values are, nulls last. Values are as in juniper/value.h: 64-bit
// numbers for all types but real and text.
#pragma once

#include <cstdint>
#include <limits>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/value.h"
#include "store/codes.h"
#include "store/dictionary.h"

namespace juniper::source {
struct ColumnInput;
}

namespace juniper::store {

enum class Layout : std::uint8_t { dictionary, offset, bits };

// Of layout bits: a NaN, which no real column holds.
inline constexpr std::uint64_t null_bits = std::numeric_limits<std::uint64_t>::max();
// A code that no row of any column has, in any layout.
inline constexpr std::uint64_t no_code = null_bits - 1;

struct Column {
  Type type;
  Layout layout = Layout::offset;
  std::uint64_t rows = 0;
  std::uint64_t distinct = 0;  // values other than null
  std::uint64_t nulls = 0;     // rows
  std::int64_t base = 0;       // of layout offset
  std::uint64_t step = 1;      // of layout offset
  std::uint64_t null_code = 0;
  Value least;  // null when there are no values
  Value most;
  std::string encoding;      // for people: "dictionary, packed 5 bits"
  NumberDictionary numbers;  // of layout dictionary, for all types but text
  TextDictionary texts;      // and for text
  Codes codes;

  bool has_dictionary() const { return layout == Layout::dictionary; }
  const Bytes& dictionary_bytes() const {
    return type.kind == TypeKind::text ? texts.bytes() : numbers.codes().bytes();
  }
  std::uint64_t bytes() const { return dictionary_bytes().size() + codes.bytes().size(); }
  // The value that a code other than null_code means, by type. They throw a base::Failure where the file is damaged.
  std::int64_t exact_of(std::uint64_t code) const {
    if (layout == Layout::dictionary) return numbers.exact(code);
    return static_cast<std::int64_t>(static_cast<std::uint64_t>(base) + code * step);
  }
  double real_of(std::uint64_t code) const;
  // Lives as long as any copy of the column.
  std::string_view text_of(std::uint64_t code) const { return texts.at(code); }
  Value value_of(std::uint64_t code) const;  // null for null_code
  // The code of a value of the column's type; nothing when the column's codes have none for it. Null has null_code.
  std::optional<std::uint64_t> code_of(const Value& value) const;
  // How many codes stand for less than a value of the column's type (not null). Not for layout bits.
  std::uint64_t codes_before(const Value& value) const;
  // The same values in other rows, in the codes that there are.
  void set_codes(Codes others);
  // What `encoding` says of the layout and the codes.
  std::string describe() const;
  Value at(std::uint64_t row) const { return value_of(codes.at(row)); }

  // Reads everything that was not read yet. Throws a base::Failure where the file is damaged.
  void verify() const;
  // Reads everything, and tells whether its nulls, distinct values, and smallest and largest value are as they are told
  // here. Throws as `verify`.
  bool says_true() const;
};

// Encodes a column in the smaller of the layouts that fit it (store/encode_column.cpp).
Column encode_column(source::ColumnInput input);

// Rows of a column, in ascending order, to be encoded again. Views no memory of the column.
source::ColumnInput chosen_rows(const Column& column, std::span<const std::uint64_t> rows);

}  // namespace juniper::store
