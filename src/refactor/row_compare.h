// What row proofs share: values row by row, and differences with samples.
#pragma once

#include <fmt/format.h>

#include <limits>
#include <optional>
#include <string>
#include <vector>

#include "juniper/refactor.h"
#include "store/store.h"

namespace juniper::refactoring {

inline constexpr std::size_t most_samples = 5;

inline std::string shown(const Value& value, Type type) {
  return value.is_null() ? "null" : to_text(value, type);
}

// A column's values, row by row; each code is decoded once as long as it repeats.
class Values {
 public:
  explicit Values(const store::Column& column) : column_(column), codes_(store::block_rows) {}
  const Value& at(std::uint64_t row) {
    if (row / store::block_rows != block_) {
      block_ = row / store::block_rows;
      column_.codes.decode_block(block_, codes_.data());
    }
    const std::uint64_t code = codes_[row % store::block_rows];
    if (!known_ || code != code_) {
      code_ = code;
      known_ = true;
      value_ = code == column_.null_code ? Value() : column_.value_of(code);
    }
    return value_;
  }

 private:
  const store::Column& column_;
  std::vector<std::uint64_t> codes_;
  std::uint64_t block_ = std::numeric_limits<std::uint64_t>::max();
  std::uint64_t code_ = 0;
  bool known_ = false;
  Value value_;
};

// Compares row by row: `holds(row)` gives what differs, or nothing.
template <class Differs>
void compare_rows(RowProof& proof, std::uint64_t rows, const Differs& differs) {
  for (std::uint64_t row = 0; row < rows; ++row) {
    const std::optional<std::string> what = differs(row);
    ++proof.rows;
    if (!what) continue;
    ++proof.differing;
    if (proof.samples.size() < most_samples) proof.samples.push_back(fmt::format("row {}: {}", row + 1, *what));
  }
}

}  // namespace juniper::refactoring
