// Columns on their way into the store: rows come in pieces of some thousands, from several threads and in any order,
// and are kept packed until their column is encoded, so that a load never holds the text of a table, nor all of its
// values at full width. What the encoder has to know about the values is found out while a piece is in the caches.
#pragma once

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/arena.h"
#include "juniper/value.h"

namespace juniper::source {

// How many rows a piece should have that is made from values that are there already.
inline constexpr std::size_t rows_of_piece = std::size_t{1} << 14;

// The values of one piece of a column. Only the vector of its type is used; each has one entry for each row, of any
// value where the row is null.
struct PieceValues {
  std::vector<std::int64_t> exact;  // all types but real and text, as in juniper/value.h
  std::vector<double> real;
  std::vector<std::string_view> text;
  std::vector<std::uint8_t> is_null;  // 0 or 1

  void clear();
};

// Unsigned numbers in 0, 1, 2, 4 or 8 bytes each, in the memory of an arena.
class NarrowNumbers {
 public:
  // Keeps number - base of each, the largest of which is `largest`.
  void assign(std::span<const std::uint64_t> numbers, std::uint64_t base, std::uint64_t largest, base::Arena& arena);
  std::size_t size() const { return count_; }
  std::uint64_t bytes() const { return count_ * width_; }
  // Writes all of them to `out`.
  void read(std::uint64_t* out) const;

 private:
  std::size_t count_ = 0;
  unsigned width_ = 0;
  const char* at_ = nullptr;
};

// A text in memory: its length as a varint (7 bits in each byte, the lowest first, the highest bit set in all but the
// last), then its bytes. Half the size of a view.
class StoredText {
 public:
  explicit StoredText(const char* at) : at_(at) {}
  std::string_view view() const {
    const char* at = at_;
    std::size_t length = static_cast<unsigned char>(*at) & 127U;
    for (unsigned shift = 7; (static_cast<unsigned char>(*at++) & 128U) != 0; shift += 7)
      length |= std::size_t{static_cast<unsigned char>(*at) & 127U} << shift;
    return {at, length};
  }
  const char* address() const { return at_; }
  // The place behind it, where the next of a run begins.
  const char* end() const { return view().data() + view().size(); }

 private:
  const char* at_;
};

// The texts of one column that one thread has met. Their addresses stay.
class TextPool {
 public:
  // The number of a text, the same for the same text.
  std::uint32_t number_of(std::string_view text);
  // Keeps texts one behind the other without asking whether they are known; gives the place of the first.
  const char* keep_run(std::span<const std::string_view> texts);
  // The distinct texts, by number.
  const std::vector<StoredText>& texts() const { return texts_; }
  // True once nearly every text is new, so that there is no use in looking for what is known.
  bool is_pointless() const { return texts_.size() > 65'536 && texts_.size() * 2 > asked_; }

 private:
  struct Hash {
    std::size_t operator()(std::string_view text) const;
  };
  base::Arena arena_;
  std::vector<StoredText> texts_;
  boost::unordered_flat_map<std::string_view, std::uint32_t, Hash, std::equal_to<>> numbers_;
  std::uint64_t asked_ = 0;
};

// The memory of the pieces of one column that one thread has made.
struct PieceMemory {
  TextPool texts;
  base::Arena numbers;
};

// One piece of a column, packed.
struct PackedPiece {
  std::size_t rows = 0;
  std::size_t nulls = 0;
  std::vector<std::uint64_t> null_bits;  // one for each row; empty: no row is null

  // Exact values are low + step * number; a null has the number of a neighbour. Of the values that are not null: the
  // smallest, the largest, the first, the last, what their distances have in common (for times; 1 for other types),
  // whether none is smaller than the one before, and how many are not equal to the one before.
  std::int64_t low = 0;
  std::int64_t high = 0;
  std::int64_t first = 0;
  std::int64_t last = 0;
  std::uint64_t step = 1;
  bool ascending = true;
  std::uint64_t changes = 0;

  NarrowNumbers numbers;  // of a text: in the pool
  std::vector<double> reals;

  unsigned memory = 0;          // which of the column's
  const char* plain = nullptr;  // where the texts have no numbers: the run of those of all rows

  // Calls visit(row of the piece) for each null.
  template <class Visit>
  void each_null(const Visit& visit) const {
    for (std::size_t w = 0; w < null_bits.size(); ++w) {
      for (std::uint64_t left = null_bits[w]; left != 0; left &= left - 1)
        visit(w * 64 + static_cast<std::size_t>(std::countr_zero(left)));
    }
  }
};

// Packs the values of a piece into the memory with that number of its column. Texts go to the pool, or are only kept
// there once the numbers have become pointless.
PackedPiece pack_piece(Type type, PieceValues& values, PieceMemory& memory, unsigned memory_number);

struct ColumnInput {
  Type type;
  std::vector<PackedPiece> pieces;  // in the order of the rows
  std::vector<std::shared_ptr<PieceMemory>> memories;

  // Puts the rows of another column of the same type behind.
  void append(ColumnInput other);
  std::uint64_t rows() const;
  std::uint64_t nulls() const;
  // About how much memory it takes.
  std::uint64_t bytes() const;
};

// A column of values that are there already: `fill(begin, end, values)` gives those of the rows from begin to end.
template <class Fill>
ColumnInput column_of(Type type, std::size_t rows, const Fill& fill) {
  ColumnInput input;
  input.type = type;
  input.memories.push_back(std::make_shared<PieceMemory>());
  PieceValues values;
  for (std::size_t begin = 0; begin < rows; begin += rows_of_piece) {
    values.clear();
    fill(begin, std::min(rows, begin + rows_of_piece), values);
    input.pieces.push_back(pack_piece(type, values, *input.memories[0], 0));
  }
  return input;
}

}  // namespace juniper::source
