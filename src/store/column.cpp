#include "store/column.h"

#include <algorithm>
#include <bit>
#include <numeric>
#include <optional>

namespace juniper::store {

namespace {

constexpr std::uint64_t null_bits = std::numeric_limits<std::uint64_t>::max();  // a NaN, which no real column holds

template <class T>
Bytes number_dictionary(const std::vector<T>& sorted) {
  std::vector<std::byte> bytes;
  append(bytes, std::span<const T>(sorted));
  return Bytes(std::move(bytes));
}

unsigned bits_for(std::uint64_t range) {
  return static_cast<unsigned>(std::bit_width(range));
}

Bytes text_dictionary(const std::vector<std::string_view>& sorted) {
  std::vector<std::uint64_t> head{sorted.size(), 0};
  for (const std::string_view text : sorted) head.push_back(head.back() + text.size());
  std::vector<std::byte> bytes;
  append(bytes, std::span<const std::uint64_t>(head));
  for (const std::string_view text : sorted) append(bytes, std::span<const char>(text));
  bytes.resize((bytes.size() + 7) / 8 * 8);
  return Bytes(std::move(bytes));
}

std::uint64_t bytes_of(const Column& column) {
  return column.dictionary.size() + column.codes.bytes().size();
}

// The distinct values that are not null, ascending.
template <class T>
std::vector<T> sorted_distinct(const std::vector<T>& values, const std::vector<std::uint8_t>& is_null) {
  std::vector<T> sorted;
  sorted.reserve(values.size());
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (is_null[i] == 0) sorted.push_back(values[i]);
  }
  std::sort(sorted.begin(), sorted.end());
  sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
  sorted.shrink_to_fit();
  return sorted;
}

template <class T>
Column with_dictionary(Column column, const std::vector<T>& values, const std::vector<T>& sorted,
                       const std::vector<std::uint8_t>& is_null) {
  column.layout = Layout::dictionary;
  column.null_code = sorted.size();
  std::vector<std::uint64_t> codes(values.size());
  for (std::size_t i = 0; i < values.size(); ++i) {
    codes[i] =
        is_null[i] != 0
            ? column.null_code
            : static_cast<std::uint64_t>(std::lower_bound(sorted.begin(), sorted.end(), values[i]) - sorted.begin());
  }
  column.dictionary = number_dictionary(sorted);
  column.codes = Codes::encode(codes);
  return column;
}

// Distinct values within a range not much larger than the rows are counted by marking, which is faster than sorting.
std::uint64_t count_distinct(const source::ColumnInput& input, std::int64_t low, std::uint64_t range) {
  if (range / 8 > input.exact.size()) return sorted_distinct(input.exact, input.is_null).size();
  std::vector<bool> seen(range + 1, false);
  for (std::size_t i = 0; i < input.exact.size(); ++i) {
    if (input.is_null[i] == 0)
      seen[static_cast<std::uint64_t>(input.exact[i]) - static_cast<std::uint64_t>(low)] = true;
  }
  return static_cast<std::uint64_t>(std::count(seen.begin(), seen.end(), true));
}

Column encode_exact(Column column, const source::ColumnInput& input) {
  std::int64_t low = std::numeric_limits<std::int64_t>::max();
  std::int64_t high = std::numeric_limits<std::int64_t>::min();
  for (std::size_t i = 0; i < input.exact.size(); ++i) {
    if (input.is_null[i] != 0) continue;
    low = std::min(low, input.exact[i]);
    high = std::max(high, input.exact[i]);
  }
  if (column.nulls == column.rows) low = high = 0;
  const std::uint64_t range = static_cast<std::uint64_t>(high) - static_cast<std::uint64_t>(low);
  column.distinct = column.nulls == column.rows ? 0 : count_distinct(input, low, range);

  // A dictionary of 8 bytes a value can only pay when it saves that many bits in the codes.
  const std::uint64_t saved_bits =
      column.rows * (bits_for(range) - std::min(bits_for(range), bits_for(column.distinct)));
  std::optional<Column> dictionary;
  if (column.distinct * 64 < saved_bits || range >= null_bits - 1) {
    dictionary = with_dictionary(column, input.exact, sorted_distinct(input.exact, input.is_null), input.is_null);
    if (range >= null_bits - 1) return *dictionary;  // no code would be left for null
  }
  column.layout = Layout::offset;
  column.base = low;
  column.null_code = column.distinct == 0 ? 0 : range + 1;
  std::vector<std::uint64_t> codes(input.exact.size());
  for (std::size_t i = 0; i < codes.size(); ++i) {
    codes[i] = input.is_null[i] != 0 ? column.null_code
                                     : static_cast<std::uint64_t>(input.exact[i]) - static_cast<std::uint64_t>(low);
  }
  column.codes = Codes::encode(codes);
  return dictionary && bytes_of(*dictionary) < bytes_of(column) ? *dictionary : column;
}

Column encode_real(Column column, const source::ColumnInput& input) {
  const std::vector<double> sorted = sorted_distinct(input.real, input.is_null);
  column.distinct = sorted.size();
  Column dictionary = with_dictionary(column, input.real, sorted, input.is_null);
  column.layout = Layout::bits;
  column.null_code = null_bits;
  std::vector<std::uint64_t> codes(input.real.size());
  for (std::size_t i = 0; i < codes.size(); ++i) {
    codes[i] = input.is_null[i] != 0 ? null_bits : std::bit_cast<std::uint64_t>(input.real[i]);
  }
  column.codes = Codes::encode(codes);
  return bytes_of(column) < bytes_of(dictionary) ? column : dictionary;
}

Column encode_text(Column column, const source::ColumnInput& input) {
  std::vector<std::uint8_t> used(input.texts.size(), 0);
  for (std::size_t i = 0; i < input.text.size(); ++i) {
    if (input.is_null[i] == 0) used[input.text[i]] = 1;
  }
  std::vector<std::uint32_t> order;
  for (std::uint32_t i = 0; i < input.texts.size(); ++i) {
    if (used[i] != 0) order.push_back(i);
  }
  std::sort(order.begin(), order.end(),
            [&](std::uint32_t a, std::uint32_t b) { return input.texts[a] < input.texts[b]; });
  std::vector<std::string_view> sorted;
  std::vector<std::uint64_t> code_of(input.texts.size());
  for (const std::uint32_t i : order) {
    code_of[i] = sorted.size();
    sorted.push_back(input.texts[i]);
  }
  column.layout = Layout::dictionary;
  column.distinct = sorted.size();
  column.null_code = sorted.size();
  std::vector<std::uint64_t> codes(input.text.size());
  for (std::size_t i = 0; i < codes.size(); ++i) {
    codes[i] = input.is_null[i] != 0 ? column.null_code : code_of[input.text[i]];
  }
  column.dictionary = text_dictionary(sorted);
  column.codes = Codes::encode(codes);
  return column;
}

}  // namespace

std::int64_t Column::exact_of(std::uint64_t code) const {
  if (layout == Layout::dictionary) return dictionary.as<std::int64_t>(code * 8, 1)[0];
  return static_cast<std::int64_t>(static_cast<std::uint64_t>(base) + code);
}

double Column::real_of(std::uint64_t code) const {
  return layout == Layout::dictionary ? dictionary.as<double>(code * 8, 1)[0] : std::bit_cast<double>(code);
}

std::string_view Column::text_of(std::uint64_t code) const {
  const auto offsets = dictionary.as<std::uint64_t>(8, distinct + 1);
  const auto texts = dictionary.as<char>(8 * (distinct + 2), 0);
  return {texts.data() + offsets[code], offsets[code + 1] - offsets[code]};
}

Value Column::value_of(std::uint64_t code) const {
  if (code == null_code) return {};
  if (type.kind == TypeKind::text) return Value::of(std::string(text_of(code)));
  if (type.kind == TypeKind::real) return Value::of(real_of(code));
  return Value::of(static_cast<int128>(exact_of(code)));
}

namespace {

// Reals outside a dictionary have codes in another order than their values.
template <class Better>
Value extreme_real(const Column& column, const Better& better) {
  std::optional<double> best;
  std::vector<std::uint64_t> codes(block_rows);
  for (std::size_t block = 0; block < column.codes.blocks(); ++block) {
    column.codes.decode_block(block, codes.data());
    for (std::size_t i = 0; i < column.codes.rows_in_block(block); ++i) {
      if (codes[i] == column.null_code) continue;
      const double value = column.real_of(codes[i]);
      if (!best || better(value, *best)) best = value;
    }
  }
  return best ? Value::of(*best) : Value();
}

}  // namespace

std::uint64_t Column::codes_before(const Value& value) const {
  if (layout == Layout::offset) {
    const int128 from_base = value.exact() - base;
    return static_cast<std::uint64_t>(std::clamp(from_base, int128{0}, static_cast<int128>(null_code)));
  }
  std::uint64_t low = 0;
  std::uint64_t high = distinct;
  while (low < high) {
    const std::uint64_t middle = low + (high - low) / 2;
    if (compare(value_of(middle), value) < 0) {
      low = middle + 1;
    } else {
      high = middle;
    }
  }
  return low;
}

std::optional<std::uint64_t> Column::code_of(const Value& value) const {
  if (value.is_null()) return null_code;
  if (layout == Layout::bits) return std::bit_cast<std::uint64_t>(value.real());
  const std::uint64_t code = codes_before(value);
  if (layout == Layout::offset) {
    const bool held = value.exact() >= base && code < null_code;
    return held ? std::optional(code) : std::nullopt;
  }
  return code < distinct && compare(value_of(code), value) == 0 ? std::optional(code) : std::nullopt;
}

Value Column::min() const {
  if (distinct == 0) return {};
  return layout == Layout::bits ? extreme_real(*this, std::less<>()) : value_of(0);
}

Value Column::max() const {
  if (distinct == 0) return {};
  return layout == Layout::bits ? extreme_real(*this, std::greater<>()) : value_of(null_code - 1);
}

bool Column::is_well_formed() const {
  if (codes.size() != rows || !codes.is_well_formed(null_code)) return false;
  if (layout != Layout::dictionary) {
    return type.kind != TypeKind::text && (layout == Layout::bits) == (type.kind == TypeKind::real);
  }
  if (null_code != distinct) return false;
  if (type.kind != TypeKind::text) return dictionary.size() == distinct * 8;
  if (dictionary.size() / 8 < distinct + 2 || dictionary.as<std::uint64_t>(0, 1)[0] != distinct) return false;
  const auto offsets = dictionary.as<std::uint64_t>(8, distinct + 1);
  return std::is_sorted(offsets.begin(), offsets.end()) && offsets.back() <= dictionary.size() - 8 * (distinct + 2);
}

std::string Column::describe() const {
  switch (layout) {
    case Layout::dictionary:
      return "dictionary, " + codes.describe();
    case Layout::offset:
      return codes.describe();
    case Layout::bits:
      return "bits, " + codes.describe();
  }
  return "";
}

Column encode_column(const source::ColumnInput& input) {
  Column column;
  column.type = input.type;
  column.rows = input.is_null.size();
  column.nulls = static_cast<std::uint64_t>(
      std::count_if(input.is_null.begin(), input.is_null.end(), [](std::uint8_t n) { return n != 0; }));
  switch (input.type.kind) {
    case TypeKind::text:
      return encode_text(std::move(column), input);
    case TypeKind::real:
      return encode_real(std::move(column), input);
    default:
      return encode_exact(std::move(column), input);
  }
}

}  // namespace juniper::store
