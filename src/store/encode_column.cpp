// Encoding a column. Numbers have a dictionary where it makes the column smaller, which is tried where an estimate says
// that it could; texts always have one.
//
// The column is never held at full width: its pieces are unpacked one by one, become codes, and go on into blocks. That
// takes a pass or two over the pieces. Values that lie close together are counted by marking them in a bitmap, in which
// the number of marks before a value is its place in the dictionary; others are sorted.
#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cmath>
#include <limits>
#include <numeric>

#include "base/bits.h"
#include "base/large_vector.h"
#include "base/sort.h"
#include "source/column_input.h"
#include "store/column.h"
#include "store/encode_text.h"

namespace juniper::store {

namespace {

using base::bits_for;
using source::ColumnInput;
using source::PackedPiece;

// Calls visit(piece, numbers) for each piece, with its unpacked numbers, which it may change.
template <class Visit>
void each_piece(const ColumnInput& input, const Visit& visit) {
  std::vector<std::uint64_t> numbers;
  for (const PackedPiece& piece : input.pieces) {
    numbers.resize(piece.numbers.size());
    piece.numbers.read(numbers.data());
    visit(piece, std::span(numbers));
  }
}

// What the pieces tell together of exact values.
struct Shape {
  std::int64_t low = 0;
  std::int64_t high = 0;
  std::uint64_t step = 0;  // divides the distance of any two values; 0 while there is one value
  bool ascending = true;
  std::uint64_t changes = 0;  // values that are not equal to the one before

  std::uint64_t range() const { return static_cast<std::uint64_t>(high) - static_cast<std::uint64_t>(low); }
};

std::uint64_t distance(std::int64_t a, std::int64_t b) {
  return a < b ? static_cast<std::uint64_t>(b) - static_cast<std::uint64_t>(a)
               : static_cast<std::uint64_t>(a) - static_cast<std::uint64_t>(b);
}

Shape shape_of(const ColumnInput& input) {
  Shape shape;
  const PackedPiece* before = nullptr;
  for (const PackedPiece& piece : input.pieces) {
    if (piece.nulls == piece.rows) continue;
    shape.low = before == nullptr ? piece.low : std::min(shape.low, piece.low);
    shape.high = before == nullptr ? piece.high : std::max(shape.high, piece.high);
    shape.ascending = shape.ascending && piece.ascending && (before == nullptr || before->last <= piece.first);
    shape.changes += piece.changes + (before != nullptr && before->last != piece.first ? 1 : 0);
    if (piece.low != piece.high) shape.step = std::gcd(shape.step, piece.step);
    if (before != nullptr) shape.step = std::gcd(shape.step, distance(before->low, piece.low));
    before = &piece;
  }
  if (shape.step != 1) return shape;
  // Pieces of types that seldom have a step did not look for one.
  shape.step = 0;
  std::vector<std::uint64_t> numbers;
  const PackedPiece* first = nullptr;
  for (const PackedPiece& piece : input.pieces) {
    if (piece.nulls == piece.rows) continue;
    if (first == nullptr) first = &piece;
    shape.step = std::gcd(shape.step, distance(first->low, piece.low));
    numbers.resize(piece.numbers.size());
    piece.numbers.read(numbers.data());
    for (const std::uint64_t number : numbers) {
      if (shape.step == 1) return shape;
      const std::uint64_t above = number * piece.step;
      if (shape.step == 0 || above % shape.step != 0) shape.step = std::gcd(shape.step, above);
    }
  }
  return shape;
}

// A set of codes below a bound, in one bit each.
class Marks {
 public:
  explicit Marks(std::uint64_t bound) : words_((bound + 63) / 64, 0) {}
  void mark(std::uint64_t code) { words_[code / 64] |= std::uint64_t{1} << code % 64; }
  std::uint64_t count() {
    std::uint64_t total = 0;
    before_.clear();
    before_.reserve(words_.size());
    for (const std::uint64_t word : words_) {
      before_.push_back(total);
      total += static_cast<std::uint64_t>(std::popcount(word));
    }
    return total;
  }
  // How many marks lie below a code; after `count`.
  std::uint64_t before(std::uint64_t code) const {
    const std::uint64_t lower = words_[code / 64] & ((std::uint64_t{1} << code % 64) - 1);
    return before_[code / 64] + static_cast<std::uint64_t>(std::popcount(lower));
  }
  template <class Visit>
  void each(const Visit& visit) const {
    for (std::size_t w = 0; w < words_.size(); ++w) {
      for (std::uint64_t left = words_[w]; left != 0; left &= left - 1)
        visit(w * 64 + static_cast<std::uint64_t>(std::countr_zero(left)));
    }
  }

 private:
  std::vector<std::uint64_t> words_;
  std::vector<std::uint64_t> before_;
};

// True where a dictionary of `distinct` sorted values, of `range` from the first to the last, could be paid by the bits
// that it saves in each row: a value costs its distance to the one before, and more where distances differ.
bool could_pay(std::uint64_t rows, std::uint64_t distinct, std::uint64_t range) {
  if (distinct == 0) return false;
  const double saved = static_cast<double>(rows) * (bits_for(range) - std::min(bits_for(range), bits_for(distinct)));
  const double apart = std::log2(static_cast<double>(range) / static_cast<double>(distinct) + 1);
  return saved > static_cast<double>(distinct) * apart;
}

class ExactEncoder {
 public:
  ExactEncoder(Column column, const ColumnInput& input)
      : column_(std::move(column)), input_(input), shape_(shape_of(input)) {}

  Column encode() {
    const bool empty = column_.nulls == column_.rows;
    if (!empty) {
      column_.least = Value::of(static_cast<int128>(shape_.low));
      column_.most = Value::of(static_cast<int128>(shape_.high));
    }
    shape_.step = std::max<std::uint64_t>(shape_.step, 1);
    const std::uint64_t range = shape_.range() / shape_.step;
    constexpr std::uint64_t always_marked = std::uint64_t{1} << 16;
    constexpr std::uint64_t largest = no_code - 1;
    if (empty) return with_offset(std::numeric_limits<std::uint64_t>::max());  // null is the one code, 0
    if (shape_.ascending && range < largest) {
      column_.distinct = shape_.changes + 1;
      return with_offset(range);
    }
    if (range <= std::max(always_marked, 16 * column_.rows)) return encode_marked(range);
    const base::LargeVector<std::uint64_t> sorted = sorted_distinct();
    column_.distinct = sorted.size();
    if (range >= largest) return with_dictionary(sorted);  // no code would be left for null
    if (!could_pay(column_.rows, column_.distinct, range)) return with_offset(range);
    return chosen(with_dictionary(sorted), with_offset(range));
  }

 private:
  // Calls visit(piece, numbers) with how many steps each value of a piece is above the smallest of all.
  template <class Visit>
  void each_above(const Visit& visit) const {
    each_piece(input_, [&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
      const bool any = piece.nulls != piece.rows;
      const std::uint64_t low = any ? distance(shape_.low, piece.low) / shape_.step : 0;
      if (piece.step >= shape_.step) {
        const std::uint64_t steps = piece.step / shape_.step;
        for (std::uint64_t& number : numbers) number = low + number * steps;
      } else {
        // The piece did not look for a step, so that its own is 1.
        for (std::uint64_t& number : numbers) number = low + number / shape_.step;
      }
      visit(piece, numbers);
    });
  }

  // `code_of` of how far each value is above the smallest; the column's null code for null.
  template <class CodeOf>
  Codes codes(const Column& column, const CodeOf& code_of) const {
    Codes::Encoder encoder(column.rows, column.null_code);
    each_above([&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
      for (std::uint64_t& number : numbers) number = code_of(number);
      piece.each_null([&](std::size_t row) { numbers[row] = column.null_code; });
      encoder.add(numbers);
    });
    return encoder.finish();
  }

  Column with_offset(std::uint64_t range) const {
    Column column = column_;
    column.layout = Layout::offset;
    column.base = shape_.low;
    column.step = shape_.step;
    column.null_code = range + 1;
    column.codes = codes(column, [](std::uint64_t above) { return above; });
    return column;
  }

  // Values of a dictionary that leaves the processor's near caches are waited for, row by row: it has to save more than
  // a few bits.
  static Column chosen(Column dictionary, Column offset) {
    constexpr std::uint64_t near = std::uint64_t{1} << 17;
    const std::uint64_t most = dictionary.distinct <= near ? offset.bytes() : offset.bytes() / 4 * 3;
    return dictionary.bytes() < most ? dictionary : offset;
  }

  std::int64_t value_of(std::uint64_t above) const {
    return static_cast<std::int64_t>(static_cast<std::uint64_t>(shape_.low) + above * shape_.step);
  }

  // Values are within a range not much larger than the rows.
  Column encode_marked(std::uint64_t range) {
    Marks marks(range + 1);
    each_above([&](const PackedPiece& piece, std::span<const std::uint64_t> numbers) {
      if (piece.nulls == piece.rows) return;
      for (const std::uint64_t above : numbers) marks.mark(above);
    });
    column_.distinct = marks.count();
    if (!could_pay(column_.rows, column_.distinct, range)) return with_offset(range);
    std::vector<std::int64_t> values;
    values.reserve(column_.distinct);
    marks.each([&](std::uint64_t above) { values.push_back(value_of(above)); });
    Column column = dictionary_column(values);
    column.codes = codes(column, [&](std::uint64_t above) { return marks.before(above); });
    return chosen(std::move(column), with_offset(range));
  }

  base::LargeVector<std::uint64_t> sorted_distinct() const {
    base::LargeVector<std::uint64_t> values;
    values.reserve(column_.rows);
    each_above([&](const PackedPiece& piece, std::span<const std::uint64_t> numbers) {
      if (piece.nulls != piece.rows) values.insert(values.end(), numbers.begin(), numbers.end());
    });
    base::sort_numbers(values);
    values.erase(std::unique(values.begin(), values.end()), values.end());
    return values;
  }

  Column dictionary_column(const std::vector<std::int64_t>& values) const {
    Column column = column_;
    column.layout = Layout::dictionary;
    column.null_code = column.distinct;
    column.numbers = NumberDictionary::encode(values);
    return column;
  }

  Column with_dictionary(const base::LargeVector<std::uint64_t>& sorted) const {
    std::vector<std::int64_t> values;
    values.reserve(sorted.size());
    boost::unordered_flat_map<std::uint64_t, std::uint64_t> place;
    place.reserve(sorted.size());
    for (const std::uint64_t above : sorted) {
      place.emplace(above, values.size());
      values.push_back(value_of(above));
    }
    Column column = dictionary_column(values);
    column.codes = codes(column, [&](std::uint64_t above) {
      const auto at = place.find(above);
      return at == place.end() ? 0 : at->second;  // nothing is found for the nulls of a piece without values alone
    });
    return column;
  }

  Column column_;
  const ColumnInput& input_;
  Shape shape_;
};

Column encode_real(Column column, const ColumnInput& input) {
  std::vector<double> sorted;
  sorted.reserve(column.rows);
  for (const PackedPiece& piece : input.pieces) {
    const std::size_t begin = sorted.size();
    sorted.insert(sorted.end(), piece.reals.begin(), piece.reals.end());
    std::size_t row = begin;
    if (piece.nulls == 0) continue;
    for (std::size_t i = 0; i < piece.rows; ++i) {
      if ((piece.null_bits[i / 64] >> i % 64 & 1) == 0) sorted[row++] = piece.reals[i];
    }
    sorted.resize(row);
  }
  std::sort(sorted.begin(), sorted.end());
  sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
  column.distinct = sorted.size();
  if (!sorted.empty()) {
    column.least = Value::of(sorted.front());
    column.most = Value::of(sorted.back());
  }
  const auto codes = [&](std::uint64_t null_code, const auto& code_of) {
    Codes::Encoder encoder(column.rows, null_code);
    std::vector<std::uint64_t> made;
    for (const PackedPiece& piece : input.pieces) {
      made.clear();
      for (const double value : piece.reals) made.push_back(code_of(value));
      piece.each_null([&](std::size_t row) { made[row] = null_code; });
      encoder.add(made);
    }
    return encoder.finish();
  };
  Column bits = column;
  bits.layout = Layout::bits;
  bits.null_code = null_bits;
  bits.codes = codes(null_bits, [](double value) { return std::bit_cast<std::uint64_t>(value); });
  if (!could_pay(column.rows, column.distinct, std::numeric_limits<std::uint64_t>::max())) return bits;
  column.layout = Layout::dictionary;
  column.null_code = sorted.size();
  column.numbers = NumberDictionary::encode(sorted);
  boost::unordered_flat_map<double, std::uint64_t> place;
  place.reserve(sorted.size());
  for (std::size_t i = 0; i < sorted.size(); ++i) place.emplace(sorted[i], i);
  column.codes = codes(column.null_code, [&](double value) {
    const auto at = place.find(value);
    return at == place.end() ? 0 : at->second;  // beside a null stands any value
  });
  return bits.bytes() < column.bytes() ? bits : column;
}

Column encode_by_type(Column column, ColumnInput& input) {
  switch (input.type.kind) {
    case TypeKind::text:
      return encode_text(std::move(column), input);
    case TypeKind::real:
      return encode_real(std::move(column), input);
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return ExactEncoder(std::move(column), input).encode();
  }
  return column;
}

}  // namespace

Column encode_column(ColumnInput input) {
  Column column;
  column.type = input.type;
  column.rows = input.rows();
  column.nulls = input.nulls();
  column = encode_by_type(std::move(column), input);
  column.encoding = column.describe();
  return column;
}

}  // namespace juniper::store
