// Values as they stand in a file → values of the type of their column.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <vector>

#include "source/parquet/decode.h"
#include "source/source.h"

namespace juniper::source::parquet {

// A value that does not fit its column.
struct BadValue {
  std::uint32_t row = 0;  // of the piece
  std::string found;      // as messages quote it
  bool is_nan = false;
  bool is_no_text = false;  // not UTF-8
};

// Writes all values to `out`, those whose text is one of `nulls` as nulls; those that do not fit are added to `bad`, and get
// any value. Texts view `values`, or `texts`.
void convert(const Values& values, Type from, const ColumnRequest& column, const std::vector<std::string>& nulls,
             PieceValues& out, std::deque<std::string>& texts, std::vector<BadValue>& bad);

// A value as a text; "" for null, and for what no type here holds.
std::string text_of(const Values& values, Type type, std::size_t at);

}  // namespace juniper::source::parquet
