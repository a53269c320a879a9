// What a statement gives: columns of values, as the engine holds them.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "engine/vector/vector.h"
#include "juniper/value.h"

namespace juniper::live {

class Answer {
 public:
  explicit Answer(const std::vector<Type>& types);

  // The cells of the next row, one after the other.
  void add_null();
  // A date or a time may also be the number that it is in a store. Throws a base::Failure with JR-521 where the text is no
  // value of the column's type.
  void add_text(std::string_view cell);
  void add_exact(int128 value);
  void add_real(double value);

  std::size_t rows() const { return rows_; }
  std::uint64_t bytes() const { return bytes_; }
  const engine::Vector& column(std::size_t c) const { return columns_[c]; }
  Value value(std::size_t c, std::size_t row) const { return columns_[c].value_at(row); }

 private:
  engine::Vector& next(engine::State state);

  std::vector<Type> types_;
  std::vector<engine::Vector> columns_;
  std::size_t at_ = 0;  // the column of the next cell
  std::size_t rows_ = 0;
  std::uint64_t bytes_ = 0;
};

}  // namespace juniper::live
