// Encoding a column. Numbers have a dictionary where it makes the column smaller, which is tried where an estimate says
// that it could; texts always have one.
//
// The cost is a few passes over the rows. Values that lie close together are counted by marking them in a bitmap, in
// which the number of marks before a value is its place in the dictionary; others are sorted.
#include <algorithm>
#include <bit>
#include <boost/sort/spreadsort/integer_sort.hpp>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cmath>
#include <cstring>
#include <numeric>

#include "base/bits.h"
#include "store/column.h"

namespace juniper::store {

namespace {

using base::bits_for;
using source::ColumnInput;

// What one pass over exact values tells.
struct Shape {
  std::int64_t low = std::numeric_limits<std::int64_t>::max();
  std::int64_t high = std::numeric_limits<std::int64_t>::min();
  std::uint64_t step = 0;  // divides what each value is above the first
  bool ascending = true;
  std::uint64_t changes = 0;  // rows whose value is not that of the row before

  std::uint64_t range() const { return static_cast<std::uint64_t>(high) - static_cast<std::uint64_t>(low); }
};

// Null rows get the value of the row before, so that they change nothing.
Shape shape_of(ColumnInput& input) {
  Shape shape;
  const auto first =
      static_cast<std::size_t>(std::find(input.is_null.begin(), input.is_null.end(), 0) - input.is_null.begin());
  if (first == input.is_null.size()) return shape;
  const std::int64_t anchor = input.exact[first];
  std::int64_t before = anchor;
  for (std::size_t i = 0; i < input.exact.size(); ++i) {
    if (input.is_null[i] != 0) input.exact[i] = before;
    const std::int64_t value = input.exact[i];
    shape.low = std::min(shape.low, value);
    shape.high = std::max(shape.high, value);
    if (value != before) {
      ++shape.changes;
      shape.ascending = shape.ascending && value > before;
      if (shape.step != 1) {
        const std::uint64_t above = value > anchor
                                        ? static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(anchor)
                                        : static_cast<std::uint64_t>(anchor) - static_cast<std::uint64_t>(value);
        if (shape.step == 0 || above % shape.step != 0) shape.step = std::gcd(shape.step, above);
      }
      before = value;
    }
  }
  shape.step = std::max<std::uint64_t>(shape.step, 1);
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

// Sorted, each value once.
template <class T>
std::vector<T> distinct_of(std::vector<T> values) {
  boost::sort::spreadsort::integer_sort(values.begin(), values.end());
  values.erase(std::unique(values.begin(), values.end()), values.end());
  values.shrink_to_fit();
  return values;
}

// True where a dictionary of `distinct` sorted values, of `range` from the first to the last, could be paid by the bits
// that it saves in each row: a value costs its distance to the one before, and more where distances differ.
bool could_pay(std::uint64_t rows, std::uint64_t distinct, std::uint64_t range) {
  if (distinct == 0) return false;
  const double saved = static_cast<double>(rows) * (bits_for(range) - std::min(bits_for(range), bits_for(distinct)));
  const double distance = std::log2(static_cast<double>(range) / static_cast<double>(distinct) + 1);
  return saved > static_cast<double>(distinct) * distance;
}

class ExactEncoder {
 public:
  ExactEncoder(Column column, ColumnInput& input)
      : column_(std::move(column)), input_(input), shape_(shape_of(input)) {}

  Column encode() {
    if (column_.nulls == column_.rows) {
      column_.codes = Codes::encode(std::vector<std::uint64_t>(column_.rows, 0));
      return column_;
    }
    column_.least = Value::of(static_cast<int128>(shape_.low));
    column_.most = Value::of(static_cast<int128>(shape_.high));
    const std::uint64_t range = shape_.range() / shape_.step;
    constexpr std::uint64_t always_marked = std::uint64_t{1} << 16;
    if (shape_.ascending) {
      column_.distinct = shape_.changes + 1;
    } else if (range <= std::max(always_marked, 16 * column_.rows)) {
      return encode_marked(range);
    } else {
      sorted_ = distinct_of(input_.exact);
      column_.distinct = sorted_.size();
    }
    constexpr std::uint64_t largest = std::numeric_limits<std::uint64_t>::max() - 1;
    if (range >= largest) return with_sorted_dictionary();  // no code would be left for null
    if (!sorted_.empty() && could_pay(column_.rows, column_.distinct, range)) {
      Column dictionary = with_sorted_dictionary();
      Column offset = with_offset(range);
      return dictionary.bytes() < offset.bytes() ? dictionary : offset;
    }
    sorted_ = {};
    return with_offset(range);
  }

 private:
  std::uint64_t above(std::size_t row) const {
    const auto value = static_cast<std::uint64_t>(input_.exact[row]) - static_cast<std::uint64_t>(shape_.low);
    return shape_.step == 1 ? value : value / shape_.step;
  }

  template <class CodeOf>
  Codes codes(const CodeOf& code_of) const {
    std::vector<std::uint64_t> made(column_.rows);
    for (std::size_t i = 0; i < made.size(); ++i) made[i] = code_of(i);
    if (column_.nulls != 0) {
      for (std::size_t i = 0; i < made.size(); ++i) {
        if (input_.is_null[i] != 0) made[i] = column_.null_code;
      }
    }
    return Codes::encode(made);
  }

  Column with_offset(std::uint64_t range) {
    Column column = column_;
    column.layout = Layout::offset;
    column.base = shape_.low;
    column.step = shape_.step;
    column.null_code = column_.null_code = range + 1;
    column.codes = codes([&](std::size_t i) { return above(i); });
    return column;
  }

  // Values are within a range not much larger than the rows.
  Column encode_marked(std::uint64_t range) {
    Marks marks(range + 1);
    for (std::size_t i = 0; i < input_.exact.size(); ++i) marks.mark(above(i));
    column_.distinct = marks.count();
    if (!could_pay(column_.rows, column_.distinct, range)) return with_offset(range);
    Column column = column_;
    column.layout = Layout::dictionary;
    column.null_code = column_.null_code = column_.distinct;
    std::vector<std::int64_t> values;
    values.reserve(column.distinct);
    marks.each([&](std::uint64_t at) {
      values.push_back(static_cast<std::int64_t>(static_cast<std::uint64_t>(shape_.low) + at * shape_.step));
    });
    column.numbers = NumberDictionary::encode(values);
    column.codes = codes([&](std::size_t i) { return marks.before(above(i)); });
    Column offset = with_offset(range);
    return column.bytes() < offset.bytes() ? column : offset;
  }

  Column with_sorted_dictionary() {
    Column column = column_;
    column.layout = Layout::dictionary;
    column.null_code = column_.null_code = column_.distinct;
    if (sorted_.empty()) sorted_ = distinct_of(input_.exact);
    column.numbers = NumberDictionary::encode(sorted_);
    boost::unordered_flat_map<std::int64_t, std::uint64_t> place;
    place.reserve(sorted_.size());
    for (std::size_t i = 0; i < sorted_.size(); ++i) place.emplace(sorted_[i], i);
    column.codes = codes([&](std::size_t i) { return place.find(input_.exact[i])->second; });
    return column;
  }

  Column column_;
  ColumnInput& input_;
  Shape shape_;
  std::vector<std::int64_t> sorted_;  // the distinct values, if they were sorted
};

Column encode_real(Column column, const ColumnInput& input) {
  std::vector<double> sorted;
  for (std::size_t i = 0; i < input.real.size(); ++i) {
    if (input.is_null[i] == 0) sorted.push_back(input.real[i]);
  }
  std::sort(sorted.begin(), sorted.end());
  sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
  column.distinct = sorted.size();
  if (!sorted.empty()) {
    column.least = Value::of(sorted.front());
    column.most = Value::of(sorted.back());
  }
  Column bits = column;
  bits.layout = Layout::bits;
  bits.null_code = null_bits;
  std::vector<std::uint64_t> codes(input.real.size());
  for (std::size_t i = 0; i < codes.size(); ++i)
    codes[i] = input.is_null[i] != 0 ? null_bits : std::bit_cast<std::uint64_t>(input.real[i]);
  bits.codes = Codes::encode(codes);
  if (!could_pay(column.rows, column.distinct, std::numeric_limits<std::uint64_t>::max())) return bits;
  column.layout = Layout::dictionary;
  column.null_code = sorted.size();
  column.numbers = NumberDictionary::encode(sorted);
  boost::unordered_flat_map<double, std::uint64_t> place;
  place.reserve(sorted.size());
  for (std::size_t i = 0; i < sorted.size(); ++i) place.emplace(sorted[i], i);
  for (std::size_t i = 0; i < codes.size(); ++i)
    codes[i] = input.is_null[i] != 0 ? column.null_code : place.find(input.real[i])->second;
  column.codes = Codes::encode(codes);
  return bits.bytes() < column.bytes() ? bits : column;
}

// A text to sort: eight of its bytes as a number that is ordered as they are, and where it stands.
struct SortedText {
  std::uint64_t prefix;
  std::uint32_t id;
};

// Its bytes from `begin` on, the first one highest, zeros behind its end.
std::uint64_t prefix_of(std::string_view text, std::size_t begin) {
  std::uint64_t prefix = 0;
  const std::size_t bytes = std::min<std::size_t>(text.size() - begin, 8);
  std::memcpy(&prefix, text.data() + begin, bytes);
  return __builtin_bswap64(prefix);
}

std::size_t shared_bytes(std::string_view a, std::string_view b) {
  const auto end = a.begin() + static_cast<std::ptrdiff_t>(std::min(a.size(), b.size()));
  return static_cast<std::size_t>(std::mismatch(a.begin(), end, b.begin()).first - a.begin());
}

// The texts that rows use, in order; the same text may stand several times in `texts`.
std::vector<SortedText> sorted_texts(const ColumnInput& input) {
  std::vector<std::uint8_t> used(input.texts.size(), 0);
  for (std::size_t i = 0; i < input.text.size(); ++i) {
    if (input.is_null[i] == 0) used[input.text[i]] = 1;
  }
  std::vector<SortedText> sorted;
  sorted.reserve(used.size());
  for (std::uint32_t i = 0; i < input.texts.size(); ++i) {
    if (used[i] != 0) sorted.push_back({0, i});
  }
  if (sorted.empty()) return sorted;
  // What all begin with tells nothing.
  const std::string_view first = input.texts[sorted[0].id];
  std::size_t common = first.size();
  for (const SortedText& text : sorted) common = shared_bytes(first.substr(0, common), input.texts[text.id]);
  for (SortedText& text : sorted) text.prefix = prefix_of(input.texts[text.id], common);
  boost::sort::spreadsort::integer_sort(
      sorted.begin(), sorted.end(), [](const SortedText& text, unsigned shift) { return text.prefix >> shift; },
      [](const SortedText& a, const SortedText& b) { return a.prefix < b.prefix; });
  for (auto begin = sorted.begin(); begin != sorted.end();) {
    auto end = begin + 1;
    while (end != sorted.end() && end->prefix == begin->prefix) ++end;
    if (end - begin > 1) {
      std::sort(begin, end,
                [&](const SortedText& a, const SortedText& b) { return input.texts[a.id] < input.texts[b.id]; });
    }
    begin = end;
  }
  return sorted;
}

// Sorted texts lie anywhere in memory: each is asked for some places before it is needed.
constexpr std::size_t ahead = 24;

Column encode_text(Column column, ColumnInput& input) {
  std::vector<SortedText> sorted = sorted_texts(input);
  std::vector<std::string_view> distinct;
  distinct.reserve(sorted.size());
  std::vector<std::uint32_t> code_of(input.texts.size());
  for (std::size_t i = 0; i < sorted.size(); ++i) {
    if (i + ahead < sorted.size()) {
      __builtin_prefetch(&input.texts[sorted[i + ahead].id]);
      __builtin_prefetch(&code_of[sorted[i + ahead].id], 1);
    }
    const std::string_view text = input.texts[sorted[i].id];
    const bool is_new = i == 0 || sorted[i].prefix != sorted[i - 1].prefix || distinct.back() != text;
    if (is_new) distinct.push_back(text);
    code_of[sorted[i].id] = static_cast<std::uint32_t>(distinct.size() - 1);
  }
  sorted = {};
  column.layout = Layout::dictionary;
  column.distinct = distinct.size();
  column.null_code = distinct.size();
  if (!distinct.empty()) {
    column.least = Value::of(std::string(distinct.front()));
    column.most = Value::of(std::string(distinct.back()));
  }
  column.texts = TextDictionary::encode(distinct);
  distinct = {};
  std::vector<std::uint64_t> codes(input.text.size());
  for (std::size_t i = 0; i < codes.size(); ++i)
    codes[i] = input.is_null[i] != 0 ? column.null_code : code_of[input.text[i]];
  column.codes = Codes::encode(codes);
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
  column.rows = input.is_null.size();
  column.nulls = column.rows - static_cast<std::uint64_t>(std::count(input.is_null.begin(), input.is_null.end(), 0));
  column = encode_by_type(std::move(column), input);
  column.encoding = column.has_dictionary() ? "dictionary, " + column.codes.describe() : column.codes.describe();
  if (column.layout == Layout::bits) column.encoding = "bits, " + column.encoding;
  return column;
}

}  // namespace juniper::store
