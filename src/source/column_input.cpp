#include "source/column_input.h"

#include <xxhash.h>

#include <algorithm>
#include <cstring>
#include <numeric>

namespace juniper::source {

void PieceValues::clear() {
  exact.clear();
  real.clear();
  text.clear();
  is_null.clear();
}

template <class Narrow>
void NarrowNumbers::assign_as(std::span<const std::uint64_t> numbers) {
  width_ = sizeof(Narrow);
  words_.resize((numbers.size() * sizeof(Narrow) + 7) / 8);
  auto* const out = reinterpret_cast<char*>(words_.data());
  for (std::size_t i = 0; i < numbers.size(); ++i) {
    const auto narrow = static_cast<Narrow>(numbers[i]);
    std::memcpy(out + i * sizeof(Narrow), &narrow, sizeof(Narrow));
  }
}

void NarrowNumbers::assign(std::span<const std::uint64_t> numbers) {
  count_ = numbers.size();
  std::uint64_t all = 0;
  for (const std::uint64_t number : numbers) all |= number;
  if (all == 0) {
    width_ = 0;
    words_.clear();
  } else if (all <= 0xFF) {
    assign_as<std::uint8_t>(numbers);
  } else if (all <= 0xFFFF) {
    assign_as<std::uint16_t>(numbers);
  } else if (all <= 0xFFFF'FFFF) {
    assign_as<std::uint32_t>(numbers);
  } else {
    assign_as<std::uint64_t>(numbers);
  }
}

void NarrowNumbers::read(std::uint64_t* out) const {
  const auto widen = [&](auto zero) {
    using Narrow = decltype(zero);
    const auto* const in = reinterpret_cast<const char*>(words_.data());
    for (std::size_t i = 0; i < count_; ++i) {
      Narrow narrow = 0;
      std::memcpy(&narrow, in + i * sizeof(Narrow), sizeof(Narrow));
      out[i] = narrow;
    }
  };
  switch (width_) {
    case 0:
      std::fill_n(out, count_, 0);
      return;
    case 1:
      return widen(std::uint8_t{});
    case 2:
      return widen(std::uint16_t{});
    case 4:
      return widen(std::uint32_t{});
    default:
      return widen(std::uint64_t{});
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

// What all values have in common as their distance; found only for types that often have one.
std::uint64_t step_of(Type type, const std::vector<std::int64_t>& values) {
  if (type.kind != TypeKind::datetime && type.kind != TypeKind::time) return 1;
  std::uint64_t step = 0;
  for (const std::int64_t value : values) {
    const std::uint64_t distance = value > values[0]
                                       ? static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(values[0])
                                       : static_cast<std::uint64_t>(values[0]) - static_cast<std::uint64_t>(value);
    if (step == 0 || distance % step != 0) step = std::gcd(step, distance);
    if (step == 1) break;
  }
  return std::max<std::uint64_t>(step, 1);
}

void pack_exact(PackedPiece& piece, Type type, std::vector<std::int64_t>& values,
                const std::vector<std::uint8_t>& is_null) {
  if (piece.nulls == piece.rows) return piece.numbers.assign(std::vector<std::uint64_t>(piece.rows, 0));
  if (piece.nulls != 0) {
    std::int64_t before =
        values[static_cast<std::size_t>(std::find(is_null.begin(), is_null.end(), 0) - is_null.begin())];
    for (std::size_t i = 0; i < values.size(); ++i) before = values[i] = is_null[i] != 0 ? before : values[i];
  }
  piece.first = values.front();
  piece.last = values.back();
  std::int64_t low = piece.first;
  std::int64_t high = piece.first;
  std::uint64_t changes = 0;
  std::uint64_t falls = 0;
  for (std::size_t i = 1; i < values.size(); ++i) {
    low = std::min(low, values[i]);
    high = std::max(high, values[i]);
    changes += values[i] != values[i - 1] ? 1 : 0;
    falls += values[i] < values[i - 1] ? 1 : 0;
  }
  piece.low = low;
  piece.high = high;
  piece.changes = changes;
  piece.ascending = falls == 0;
  piece.step = step_of(type, values);
  std::vector<std::uint64_t> numbers;
  numbers.reserve(values.size());
  if (piece.step == 1) {
    for (const std::int64_t value : values)
      numbers.push_back(static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(low));
  } else {
    for (const std::int64_t value : values)
      numbers.push_back((static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(low)) / piece.step);
  }
  piece.numbers.assign(numbers);
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
  piece.numbers.assign(numbers);
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
