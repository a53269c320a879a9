// Columns on their way from a source: rows come in pieces, from several threads and in any order, and are kept packed
// until their column is encoded, so that a load never holds the text of a table, nor all of its values at full width.
#pragma once

#include <boost/unordered/unordered_flat_map.hpp>
#include <cstdint>
#include <deque>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "source/table_input.h"

namespace juniper::source {

// The values of one column in one piece, on their way in. Only the vector of its type is used; each has one entry for
// each row, of any value where the row is null.
struct PieceValues {
  std::vector<std::int64_t> exact;
  std::vector<double> real;
  std::vector<std::string_view> text;
  std::vector<std::uint8_t> is_null;

  void clear();
};

// The distinct texts of one column that one thread has met. Their addresses stay.
class TextPool {
 public:
  // The number of a text.
  std::uint32_t number_of(std::string_view text);
  const std::deque<std::string>& texts() const { return texts_; }
  // True once nearly every text is new, so that there is no use in looking for what is known.
  bool is_pointless() const { return texts_.size() > 65'536 && texts_.size() * 2 > asked_; }

 private:
  struct Hash {
    std::size_t operator()(std::string_view text) const;
  };
  std::deque<std::string> texts_;
  boost::unordered_flat_map<std::string_view, std::uint32_t, Hash, std::equal_to<>> numbers_;
  std::uint64_t asked_ = 0;
};

// One column in one piece, packed.
struct PackedPiece {
  std::size_t rows = 0;
  // Exact values are base + step * packed; the packed numbers of texts are those of the pool.
  std::int64_t base = 0;
  std::uint64_t step = 1;
  unsigned bits = 0;
  std::vector<std::uint64_t> words;
  std::vector<std::uint64_t> null_bits;  // one for each row; empty: no row is null
  std::vector<double> reals;
  unsigned pool = 0;
  bool is_plain = false;            // a text that is not in a pool
  std::string plain;                // the texts of all rows, one behind the other
  std::vector<std::uint32_t> ends;  // of each row's text in `plain`
};

// Packs the values of a piece; those of a text go to the pool, or stand plain where the pool has become pointless.
PackedPiece pack_piece(Type type, PieceValues& values, TextPool& pool, unsigned pool_number);

// A column as its pieces, and what gives them back as one.
struct StagedColumn {
  Type type;
  std::vector<PackedPiece> pieces;               // in the order of the rows
  std::vector<std::shared_ptr<TextPool>> pools;  // one for each thread

  std::uint64_t bytes() const;
};
ColumnInput unpack(StagedColumn staged);

}  // namespace juniper::source
