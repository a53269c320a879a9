// One encoded column: codes, and what each code means.
//
//   dictionary   code i means the i-th of the distinct values in ascending order; the code after the last is null
//   offset       code i means base + i; the code after the last value's is null
//   bits         the code is the bit pattern of a double; one NaN pattern is null
//
// In the first two, codes are ordered as the values are, nulls last. Values are as in juniper/value.h: 64-bit
// numbers for all types but real and text.
//
// Layout of a dictionary's bytes, little-endian:
//   numbers   8 bytes each
//   text      uint64 count; then count + 1 uint64 offsets of the texts within the area behind; then the texts,
//             padded to 8 bytes
#pragma once

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/value.h"
#include "source/table_input.h"
#include "store/codes.h"

namespace juniper::store {

enum class Layout : std::uint8_t { dictionary, offset, bits };

struct Column {
  Type type;
  Layout layout = Layout::offset;
  std::uint64_t rows = 0;
  std::uint64_t distinct = 0;  // values other than null
  std::uint64_t nulls = 0;     // rows
  std::int64_t base = 0;       // of layout offset
  std::uint64_t null_code = 0;
  Bytes dictionary;
  Codes codes;

  bool has_dictionary() const { return layout == Layout::dictionary; }
  // The value that a code other than null_code means, by type.
  std::int64_t exact_of(std::uint64_t code) const;
  double real_of(std::uint64_t code) const;
  std::string_view text_of(std::uint64_t code) const;  // lives as long as the column's dictionary
  Value value_of(std::uint64_t code) const;            // null for null_code
  // The code of a value of the column's type; nothing when the column's codes have none for it. Null has null_code.
  std::optional<std::uint64_t> code_of(const Value& value) const;
  // How many codes stand for less than a value of the column's type (not null). Not for layout bits.
  std::uint64_t codes_before(const Value& value) const;
  Value at(std::uint64_t row) const { return value_of(codes.at(row)); }

  // The smallest and the largest value; null when there are none.
  Value min() const;
  Value max() const;

  // True if the bytes hold together, so that no code can lead outside of them.
  bool is_well_formed() const;
  // "dictionary, packed 5 bits"
  std::string describe() const;
};

// Encodes a column in the smaller of the layouts that fit it.
Column encode_column(const source::ColumnInput& input);

}  // namespace juniper::store
