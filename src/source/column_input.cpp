#include "source/column_input.h"

#include <xxhash.h>

#include <algorithm>
#include <cstring>
#include <limits>
#include <numeric>

#include "base/passes.h"

namespace juniper::source {

void PieceValues::clear() {
  exact.clear();
  real.clear();
  text.clear();
  is_null.clear();
}

void NarrowNumbers::assign(std::span<const std::uint64_t> numbers, std::uint64_t base, std::uint64_t largest,
                           base::Arena& arena) {
  count_ = numbers.size();
  width_ = largest == 0 ? 0 : (largest <= 0xFF ? 1 : (largest <= 0xFFFF ? 2 : (largest <= 0xFFFF'FFFF ? 4 : 8)));
  if (width_ == 0) return;
  char* const out = arena.take(count_ * width_);
  base::narrow(numbers, base, width_, out);
  at_ = out;
}

void NarrowNumbers::read(std::uint64_t* out) const {
  if (width_ == 0) {
    std::fill_n(out, count_, 0);
  } else {
    base::widen(at_, width_, count_, out);
  }
}

std::size_t TextPool::Hash::operator()(std::string_view text) const {
  return XXH3_64bits(text.data(), text.size());
}

std::uint32_t TextPool::number_of(std::string_view text) {
  ++asked_;
  if (const auto known = numbers_.find(text); known != numbers_.end()) return known->second;
  const auto number = static_cast<std::uint32_t>(texts_.size());
  texts_.emplace_back(keep_run({&text, 1}));
  numbers_.emplace(texts_.back().view(), number);
  return number;
}

namespace {

constexpr std::size_t longest_varint = 10;

// Writes a text as StoredText reads it, and gives the place behind it.
char* store_text(std::string_view text, char* out) {
  std::size_t length = text.size();
  for (; length >= 128; length >>= 7) *out++ = static_cast<char>((length & 127U) | 128U);
  *out++ = static_cast<char>(length);
  if (!text.empty()) std::memcpy(out, text.data(), text.size());
  return out + text.size();
}

}  // namespace

const char* TextPool::keep_run(std::span<const std::string_view> texts) {
  std::size_t bytes = 0;
  for (const std::string_view text : texts) bytes += text.size() + longest_varint;
  char* const begin = arena_.take(bytes);
  char* out = begin;
  for (const std::string_view text : texts) out = store_text(text, out);
  arena_.give_back(out);
  return begin;
}

namespace {

// Divides what is a multiple of `divisor`: by shifting away the twos in it and multiplying by the inverse of the odd
// rest modulo 2^64, which Newton's iteration finds; the product is small just where there is no remainder (Granlund and
// Montgomery, Division by Invariant Integers using Multiplication, 1994, section 9).
class ExactDivision {
 public:
  explicit ExactDivision(std::uint64_t divisor) : twos_(std::countr_zero(divisor)) {
    const std::uint64_t odd = divisor >> twos_;
    for (int i = 0; i < 6; ++i) inverse_ *= 2 - odd * inverse_;
    largest_ = std::numeric_limits<std::uint64_t>::max() / odd;
  }
  bool divides(std::uint64_t number) const {
    return (number >> twos_ << twos_) == number && quotient(number) <= largest_;
  }
  std::uint64_t quotient(std::uint64_t number) const { return (number >> twos_) * inverse_; }

 private:
  int twos_;
  std::uint64_t inverse_ = 1;
  std::uint64_t largest_;
};

// What all values have in common as their distance to the smallest; found only for types that often have one.
std::uint64_t step_of(Type type, std::span<const std::uint64_t> values, std::uint64_t low) {
  if (type.kind != TypeKind::datetime && type.kind != TypeKind::time) return 1;
  std::uint64_t step = 0;
  ExactDivision by(1);
  for (const std::uint64_t value : values) {
    if (step != 0 ? by.divides(value - low) : value == low) continue;
    step = std::gcd(step, value - low);
    by = ExactDivision(step);
    if (step == 1) break;
  }
  return std::max<std::uint64_t>(step, 1);
}

void pack_exact(PackedPiece& piece, Type type, std::vector<std::int64_t>& values,
                const std::vector<std::uint8_t>& is_null, base::Arena& arena) {
  if (piece.nulls == piece.rows) return piece.numbers.assign(std::vector<std::uint64_t>(piece.rows, 0), 0, 0, arena);
  if (piece.nulls != 0) {
    std::int64_t before =
        values[static_cast<std::size_t>(std::find(is_null.begin(), is_null.end(), 0) - is_null.begin())];
    for (std::size_t i = 0; i < values.size(); ++i) before = values[i] = is_null[i] != 0 ? before : values[i];
  }
  const auto spread = base::spread_of(std::span<const std::int64_t>(values));
  piece.first = values.front();
  piece.last = values.back();
  piece.low = spread.low;
  piece.high = spread.high;
  piece.changes = spread.changes;
  piece.ascending = spread.falls == 0;
  const auto low = static_cast<std::uint64_t>(spread.low);
  const std::uint64_t range = static_cast<std::uint64_t>(spread.high) - low;
  const std::span<std::uint64_t> numbers(reinterpret_cast<std::uint64_t*>(values.data()), values.size());
  piece.step = step_of(type, numbers, low);
  if (piece.step == 1) return piece.numbers.assign(numbers, low, range, arena);
  const ExactDivision by(piece.step);
  for (std::uint64_t& number : numbers) number = by.quotient(number - low);
  piece.numbers.assign(numbers, 0, range / piece.step, arena);
}

void pack_text(PackedPiece& piece, const PieceValues& values, PieceMemory& memory) {
  if (memory.texts.is_pointless()) {
    piece.plain = memory.texts.keep_run(values.text);
    return;
  }
  std::vector<std::uint64_t> numbers;
  numbers.reserve(values.text.size());
  std::string_view before;
  std::uint64_t number = 0;
  for (std::size_t i = 0; i < values.text.size(); ++i) {
    if (values.is_null[i] == 0 && (before.data() == nullptr || values.text[i] != before)) {
      before = values.text[i];
      number = memory.texts.number_of(before);
    }
    numbers.push_back(number);
  }
  const std::uint64_t largest = numbers.empty() ? 0 : *std::max_element(numbers.begin(), numbers.end());
  piece.numbers.assign(numbers, 0, largest, memory.numbers);
}

}  // namespace

PackedPiece pack_piece(Type type, PieceValues& values, PieceMemory& memory, unsigned memory_number) {
  PackedPiece piece;
  piece.rows = values.is_null.size();
  piece.memory = memory_number;
  piece.nulls = static_cast<std::size_t>(std::accumulate(values.is_null.begin(), values.is_null.end(), std::size_t{0}));
  if (piece.nulls != 0) {
    piece.null_bits.resize((piece.rows + 63) / 64);
    for (std::size_t i = 0; i < piece.rows; ++i)
      piece.null_bits[i / 64] |= static_cast<std::uint64_t>(values.is_null[i]) << i % 64;
  }
  switch (type.kind) {
    case TypeKind::text:
      pack_text(piece, values, memory);
      break;
    case TypeKind::real:
      piece.reals = values.real;
      break;
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      pack_exact(piece, type, values.exact, values.is_null, memory.numbers);
  }
  return piece;
}

void ColumnInput::append(ColumnInput other) {
  for (PackedPiece& piece : other.pieces) {
    piece.memory += static_cast<unsigned>(memories.size());
    pieces.push_back(std::move(piece));
  }
  memories.insert(memories.end(), other.memories.begin(), other.memories.end());
}

std::uint64_t ColumnInput::rows() const {
  std::uint64_t total = 0;
  for (const PackedPiece& piece : pieces) total += piece.rows;
  return total;
}

std::uint64_t ColumnInput::nulls() const {
  std::uint64_t total = 0;
  for (const PackedPiece& piece : pieces) total += piece.nulls;
  return total;
}

std::uint64_t ColumnInput::bytes() const {
  std::uint64_t total = 0;
  for (const PackedPiece& piece : pieces)
    total += piece.numbers.bytes() + piece.reals.size() * 8 + (piece.plain != nullptr ? piece.rows * 24 : 0);
  return total;
}

}  // namespace juniper::source
