// Encoding a column. Numbers have a dictionary where it makes the column smaller, which is tried where an estimate says
// that it could; texts always have one.
//
// The column is never held at full width: its pieces are unpacked one by one, become codes, and go on into blocks. That
// takes a pass or two over the pieces. Values that lie close together are counted by marking them in a bitmap, in which
// the number of marks before a value is its place in the dictionary; others are sorted.
#include <algorithm>
#include <bit>
#include <boost/sort/spreadsort/integer_sort.hpp>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cmath>
#include <cstring>
#include <limits>
#include <numeric>

#include "base/bits.h"
#include "base/failure.h"
#include "base/large_vector.h"
#include "store/column.h"

namespace juniper::store {

namespace {

using base::bits_for;
using source::ColumnInput;
using source::PackedPiece;

// Calls visit(row of the piece) for each null.
template <class Visit>
void each_null(const PackedPiece& piece, const Visit& visit) {
  for (std::size_t w = 0; w < piece.null_bits.size(); ++w) {
    for (std::uint64_t left = piece.null_bits[w]; left != 0; left &= left - 1)
      visit(w * 64 + static_cast<std::size_t>(std::countr_zero(left)));
  }
}

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
    constexpr std::uint64_t largest = std::numeric_limits<std::uint64_t>::max() - 1;
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
    Column dictionary = with_dictionary(sorted);
    Column offset = with_offset(range);
    return dictionary.bytes() < offset.bytes() ? dictionary : offset;
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
    Codes::Encoder encoder(column.rows);
    each_above([&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
      for (std::uint64_t& number : numbers) number = code_of(number);
      each_null(piece, [&](std::size_t row) { numbers[row] = column.null_code; });
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
    Column offset = with_offset(range);
    return column.bytes() < offset.bytes() ? column : offset;
  }

  base::LargeVector<std::uint64_t> sorted_distinct() const {
    base::LargeVector<std::uint64_t> values;
    values.reserve(column_.rows);
    each_above([&](const PackedPiece& piece, std::span<const std::uint64_t> numbers) {
      if (piece.nulls != piece.rows) values.insert(values.end(), numbers.begin(), numbers.end());
    });
    boost::sort::spreadsort::integer_sort(values.begin(), values.end());
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
    Codes::Encoder encoder(column.rows);
    std::vector<std::uint64_t> made;
    for (const PackedPiece& piece : input.pieces) {
      made.clear();
      for (const double value : piece.reals) made.push_back(code_of(value));
      each_null(piece, [&](std::size_t row) { made[row] = null_code; });
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

// Texts of a column, numbered: those of its pools, one pool behind the other, and then those that stand plain, row by
// row. The same text may have several numbers. Once a text has its code, that takes its place.
class NumberedTexts {
 public:
  explicit NumberedTexts(ColumnInput& input) {
    std::uint64_t count = 0;
    for (const auto& pool : input.pools) {
      pool_begin_.push_back(count);
      count += pool->texts().size();
    }
    plain_begin_ = count;
    for (const PackedPiece& piece : input.pieces) count += piece.plain.size();
    if (count >= std::numeric_limits<std::uint32_t>::max()) {
      throw base::Failure(base::error("JR-510", "a text column has more than 4,294,967,294 different texts",
                                      "leave the column out, or read fewer files"));
    }
    places_.reserve(count);
    const auto add = [&](source::StoredText text) {
      places_.push_back(reinterpret_cast<std::uint64_t>(text.address()));
    };
    for (const auto& pool : input.pools) std::for_each(pool->texts().begin(), pool->texts().end(), add);
    for (PackedPiece& piece : input.pieces) {
      std::for_each(piece.plain.begin(), piece.plain.end(), add);
      piece.plain = {};
    }
    used_.assign(count, false);
    each_number(input, [&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
      each_null(piece, [&](std::size_t row) { numbers[row] = unused; });
      for (const std::uint64_t number : numbers) {
        if (number != unused) used_[number] = true;
      }
    });
  }

  // Calls visit(piece, numbers) with the number of each row's text; any number where the row is null.
  template <class Visit>
  void each_number(const ColumnInput& input, const Visit& visit) const {
    std::vector<std::uint64_t> numbers;
    std::uint64_t plain = plain_begin_;
    for (const PackedPiece& piece : input.pieces) {
      numbers.resize(piece.rows);
      if (piece.is_plain) {
        std::iota(numbers.begin(), numbers.end(), plain);
        plain += piece.rows;
      } else {
        piece.numbers.read(numbers.data());
        for (std::uint64_t& number : numbers) number += pool_begin_[piece.pool];
      }
      visit(piece, std::span(numbers));
    }
  }

  std::size_t size() const { return places_.size(); }
  bool is_used(std::size_t number) const { return used_[number]; }
  // The text of a number that has no code yet.
  std::string_view operator[](std::size_t number) const {
    return source::StoredText(reinterpret_cast<const char*>(places_[number])).view();
  }
  void set_code(std::size_t number, std::uint64_t code) { places_[number] = code; }
  std::uint64_t code(std::size_t number) const { return places_[number]; }
  // Asks the memory for the place of a text, and for a text whose place is there.
  void prefetch_place(std::size_t number) const { __builtin_prefetch(&places_[number], 1); }
  void prefetch(std::size_t number) const { __builtin_prefetch(reinterpret_cast<const char*>(places_[number])); }

 private:
  static constexpr std::uint64_t unused = std::numeric_limits<std::uint64_t>::max();
  std::vector<std::uint64_t> pool_begin_;
  std::uint64_t plain_begin_ = 0;
  base::LargeVector<std::uint64_t> places_;  // addresses of texts, then codes
  std::vector<bool> used_;
};

// A text to sort: eight of its bytes as a number that is ordered as they are, and its own number.
struct SortedText {
  std::uint32_t number;
  std::uint32_t high;  // of the prefix
  std::uint32_t low;   // in two halves, which need no padding between them

  std::uint64_t prefix() const { return std::uint64_t{high} << 32 | low; }
  void set_prefix(std::uint64_t prefix) {
    high = static_cast<std::uint32_t>(prefix >> 32);
    low = static_cast<std::uint32_t>(prefix);
  }
};

// Its bytes from `begin` on, the first one highest, zeros behind its end.
std::uint64_t prefix_of(std::string_view text, std::size_t begin) {
  std::uint64_t prefix = 0;
  std::memcpy(&prefix, text.data() + begin, std::min<std::size_t>(text.size() - begin, 8));
  return __builtin_bswap64(prefix);
}

std::size_t shared_bytes(std::string_view a, std::string_view b) {
  const auto end = a.begin() + static_cast<std::ptrdiff_t>(std::min(a.size(), b.size()));
  return static_cast<std::size_t>(std::mismatch(a.begin(), end, b.begin()).first - a.begin());
}

// The texts that rows use, in order.
base::LargeVector<SortedText> sorted_texts(const NumberedTexts& texts) {
  base::LargeVector<SortedText> sorted;
  sorted.reserve(texts.size());
  for (std::uint32_t i = 0; i < texts.size(); ++i) {
    if (texts.is_used(i)) sorted.push_back({i, 0, 0});
  }
  if (sorted.empty()) return sorted;
  // What all begin with tells nothing.
  const std::string_view first = texts[sorted[0].number];
  std::size_t common = first.size();
  for (const SortedText& text : sorted) common = shared_bytes(first.substr(0, common), texts[text.number]);
  for (SortedText& text : sorted) text.set_prefix(prefix_of(texts[text.number], common));
  boost::sort::spreadsort::integer_sort(
      sorted.begin(), sorted.end(), [](const SortedText& text, unsigned shift) { return text.prefix() >> shift; },
      [](const SortedText& a, const SortedText& b) { return a.prefix() < b.prefix(); });
  for (auto begin = sorted.begin(); begin != sorted.end();) {
    auto end = begin + 1;
    while (end != sorted.end() && end->prefix() == begin->prefix()) ++end;
    if (end - begin > 1) {
      std::sort(begin, end,
                [&](const SortedText& a, const SortedText& b) { return texts[a.number] < texts[b.number]; });
    }
    begin = end;
  }
  return sorted;
}

Column encode_text(Column column, ColumnInput& input) {
  // Sorted texts lie anywhere in memory: each is asked for some places before it is needed.
  constexpr std::size_t ahead = 20;
  NumberedTexts texts(input);
  TextDictionary::Encoder encoder;
  {
    const base::LargeVector<SortedText> sorted = sorted_texts(texts);
    std::string_view before;
    for (std::size_t i = 0; i < sorted.size(); ++i) {
      if (i + 2 * ahead < sorted.size()) texts.prefetch_place(sorted[i + 2 * ahead].number);
      if (i + ahead < sorted.size()) texts.prefetch(sorted[i + ahead].number);
      const std::string_view text = texts[sorted[i].number];
      const bool is_new = i == 0 || sorted[i].prefix() != sorted[i - 1].prefix() || before != text;
      if (is_new) encoder.add(text);
      before = text;
      if (i == 0) column.least = Value::of(std::string(text));
      texts.set_code(sorted[i].number, encoder.size() - 1);
    }
    if (!sorted.empty()) column.most = Value::of(std::string(before));
  }
  column.layout = Layout::dictionary;
  column.distinct = encoder.size();
  column.null_code = encoder.size();
  column.texts = encoder.finish();
  Codes::Encoder codes(column.rows);
  texts.each_number(input, [&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
    each_null(piece, [&](std::size_t row) { numbers[row] = texts.size(); });
    for (std::uint64_t& number : numbers) number = number == texts.size() ? column.null_code : texts.code(number);
    codes.add(numbers);
  });
  column.codes = codes.finish();
  return column;
}

Column encode_by_type(Column column, ColumnInput& input) {
  switch (input.type.kind) {
    case TypeKind::text:
      return encode_text(std::move(column), input);
    case TypeKind::real:
      return encode_real(std::move(column), input);
    default:
      return ExactEncoder(std::move(column), input).encode();
  }
}

}  // namespace

Column encode_column(ColumnInput input) {
  Column column;
  column.type = input.type;
  column.rows = input.rows();
  column.nulls = input.nulls();
  column = encode_by_type(std::move(column), input);
  column.encoding = column.has_dictionary() ? "dictionary, " + column.codes.describe() : column.codes.describe();
  if (column.layout == Layout::bits) column.encoding = "bits, " + column.encoding;
  return column;
}

}  // namespace juniper::store
