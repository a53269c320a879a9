#include "source/column_input.h"

#include <xxhash.h>

#include <algorithm>
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

void NarrowNumbers::assign(std::span<const std::uint64_t> numbers, std::uint64_t base, std::uint64_t largest) {
  count_ = numbers.size();
  width_ = largest == 0 ? 0 : (largest <= 0xFF ? 1 : (largest <= 0xFFFF ? 2 : (largest <= 0xFFFF'FFFF ? 4 : 8)));
  words_.resize((count_ * width_ + 7) / 8);
  if (width_ != 0) base::narrow(numbers, base, width_, words_.data());
}

void NarrowNumbers::read(std::uint64_t* out) const {
  if (width_ == 0) {
    std::fill_n(out, count_, 0);
  } else {
    base::widen(words_.data(), width_, count_, out);
  }
}

std::size_t TextPool::Hash::operator()(std::string_view text) const {
  return XXH3_64bits(text.data(), text.size());
}

std::uint32_t TextPool::number_of(std::string_view text) {
  ++asked_;
  if (const auto known = numbers_.find(text); known != numbers_.end()) return known->second;
  const auto number = static_cast<std::uint32_t>(texts_.size());
  texts_.push_back(keep(text));
  numbers_.emplace(texts_.back().view(), number);
  return number;
}

StoredText TextPool::keep(std::string_view text) {
  constexpr std::size_t chunk_bytes = std::size_t{8} << 20;
  constexpr std::size_t longest_varint = 10;
  // Small columns get small chunks.
  const std::size_t wanted = std::max(text.size() + longest_varint, std::min(chunk_bytes, texts_.size() * 16 + 1024));
  if (chunks_.empty() || chunks_.back().capacity() - chunks_.back().size() < text.size() + longest_varint)
    chunks_.emplace_back().reserve(wanted);
  base::LargeVector<char>& chunk = chunks_.back();
  const std::size_t begin = chunk.size();
  std::size_t length = text.size();
  for (; length >= 128; length >>= 7) chunk.push_back(static_cast<char>((length & 127U) | 128U));
  chunk.push_back(static_cast<char>(length));
  chunk.insert(chunk.end(), text.begin(), text.end());
  return StoredText(chunk.data() + begin);
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
                const std::vector<std::uint8_t>& is_null) {
  if (piece.nulls == piece.rows) return piece.numbers.assign(std::vector<std::uint64_t>(piece.rows, 0), 0, 0);
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
  if (piece.step == 1) return piece.numbers.assign(numbers, low, range);
  const ExactDivision by(piece.step);
  for (std::uint64_t& number : numbers) number = by.quotient(number - low);
  piece.numbers.assign(numbers, 0, range / piece.step);
}

void pack_text(PackedPiece& piece, const PieceValues& values, TextPool& pool) {
  if (pool.is_pointless()) {
    piece.is_plain = true;
    piece.plain.reserve(values.text.size());
    for (const std::string_view text : values.text) piece.plain.push_back(pool.keep(text));
    return;
  }
  std::vector<std::uint64_t> numbers;
  numbers.reserve(values.text.size());
  std::string_view before;
  std::uint64_t number = 0;
  for (std::size_t i = 0; i < values.text.size(); ++i) {
    if (values.is_null[i] == 0 && (before.data() == nullptr || values.text[i] != before)) {
      before = values.text[i];
      number = pool.number_of(before);
    }
    numbers.push_back(number);
  }
  piece.numbers.assign(numbers, 0, numbers.empty() ? 0 : *std::max_element(numbers.begin(), numbers.end()));
}

}  // namespace

PackedPiece pack_piece(Type type, PieceValues& values, TextPool& pool, unsigned pool_number) {
  PackedPiece piece;
  piece.rows = values.is_null.size();
  piece.pool = pool_number;
  piece.nulls = static_cast<std::size_t>(std::accumulate(values.is_null.begin(), values.is_null.end(), std::size_t{0}));
  if (piece.nulls != 0) {
    piece.null_bits.resize((piece.rows + 63) / 64);
    for (std::size_t i = 0; i < piece.rows; ++i)
      piece.null_bits[i / 64] |= static_cast<std::uint64_t>(values.is_null[i]) << i % 64;
  }
  switch (type.kind) {
    case TypeKind::text:
      pack_text(piece, values, pool);
      break;
    case TypeKind::real:
      piece.reals = values.real;
      break;
    default:
      pack_exact(piece, type, values.exact, values.is_null);
  }
  return piece;
}

void ColumnInput::append(ColumnInput other) {
  for (PackedPiece& piece : other.pieces) {
    piece.pool += static_cast<unsigned>(pools.size());
    pieces.push_back(std::move(piece));
  }
  pools.insert(pools.end(), other.pools.begin(), other.pools.end());
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
    total += piece.numbers.bytes() + piece.reals.size() * 8 + piece.plain.size() * 24;
  return total;
}

}  // namespace juniper::source
