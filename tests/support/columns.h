// Columns for the tests of the store, from values.
#pragma once

#include <vector>

#include "juniper/value.h"
#include "source/column_input.h"

namespace juniper::test {

// In pieces of `piece_rows`.
inline source::ColumnInput column_input(Type type, const std::vector<Value>& values, std::size_t piece_rows = 1000) {
  source::ColumnInput input;
  input.type = type;
  input.memories.push_back(std::make_shared<source::PieceMemory>());
  source::PieceValues piece;
  for (std::size_t begin = 0; begin < values.size(); begin += piece_rows) {
    piece.clear();
    for (std::size_t i = begin; i < std::min(values.size(), begin + piece_rows); ++i) {
      const Value& value = values[i];
      piece.is_null.push_back(value.is_null() ? 1 : 0);
      if (type.kind == TypeKind::text) {
        piece.text.push_back(value.is_null() ? std::string_view() : value.text());
      } else if (type.kind == TypeKind::real) {
        piece.real.push_back(value.is_null() ? 0 : value.real());
      } else {
        piece.exact.push_back(value.is_null() ? -1 : static_cast<std::int64_t>(value.exact()));
      }
    }
    input.pieces.push_back(source::pack_piece(type, piece, *input.memories[0], 0));
  }
  return input;
}

}  // namespace juniper::test
