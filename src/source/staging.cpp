#include "source/staging.h"

#include <xxhash.h>

#include <algorithm>
#include <bit>
#include <limits>
#include <numeric>

#include "base/bits.h"
#include "base/failure.h"

namespace juniper::source {

void PieceValues::clear() {
  exact.clear();
  real.clear();
  text.clear();
  is_null.clear();
}

std::size_t TextPool::Hash::operator()(std::string_view text) const {
  return XXH3_64bits(text.data(), text.size());
}

std::uint32_t TextPool::number_of(std::string_view text) {
  ++asked_;
  if (const auto known = numbers_.find(text); known != numbers_.end()) return known->second;
  const auto number = static_cast<std::uint32_t>(texts_.size());
  numbers_.emplace(texts_.emplace_back(text), number);
  return number;
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

void pack_numbers(PackedPiece& piece, const std::vector<std::uint64_t>& numbers) {
  piece.bits = base::bits_for(numbers.empty() ? 0 : *std::max_element(numbers.begin(), numbers.end()));
  piece.words.resize(base::words_for(numbers.size(), piece.bits));
  base::pack(numbers, 0, piece.bits, piece.words.data());
}

void pack_exact(PackedPiece& piece, Type type, std::vector<std::int64_t>& values,
                const std::vector<std::uint8_t>& is_null) {
  if (values.empty()) return;
  // A null repeats its neighbour, so that it widens nothing.
  const auto first = static_cast<std::size_t>(std::find(is_null.begin(), is_null.end(), 0) - is_null.begin());
  std::int64_t before = first == values.size() ? 0 : values[first];
  for (std::size_t i = 0; i < values.size(); ++i) before = values[i] = is_null[i] != 0 ? before : values[i];
  piece.base = *std::min_element(values.begin(), values.end());
  piece.step = step_of(type, values);
  std::vector<std::uint64_t> above;
  above.reserve(values.size());
  for (const std::int64_t value : values) {
    const std::uint64_t distance = static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(piece.base);
    above.push_back(piece.step == 1 ? distance : distance / piece.step);
  }
  pack_numbers(piece, above);
}

void pack_text(PackedPiece& piece, const PieceValues& values, TextPool& pool) {
  if (pool.is_pointless()) {
    piece.is_plain = true;
    for (const std::string_view text : values.text) {
      piece.plain += text;
      piece.ends.push_back(static_cast<std::uint32_t>(piece.plain.size()));
    }
    piece.plain.shrink_to_fit();
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
  pack_numbers(piece, numbers);
}

}  // namespace

PackedPiece pack_piece(Type type, PieceValues& values, TextPool& pool, unsigned pool_number) {
  PackedPiece piece;
  piece.rows = values.is_null.size();
  piece.pool = pool_number;
  if (std::find(values.is_null.begin(), values.is_null.end(), 1) != values.is_null.end()) {
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

std::uint64_t StagedColumn::bytes() const {
  std::uint64_t total = 0;
  for (const PackedPiece& piece : pieces)
    total += piece.words.size() * 8 + piece.reals.size() * 8 + piece.plain.size() + piece.ends.size() * 4;
  return total;
}

ColumnInput unpack(StagedColumn staged) {
  ColumnInput input;
  input.type = staged.type;
  std::size_t rows = 0;
  for (const PackedPiece& piece : staged.pieces) rows += piece.rows;
  input.is_null.assign(rows, 0);

  // Texts of the pools come first, one pool behind the other; then those that stand plain.
  auto owner = std::make_shared<std::pair<std::vector<std::shared_ptr<TextPool>>, std::deque<std::string>>>();
  owner->first = staged.pools;
  std::vector<std::size_t> pool_begin;
  for (const auto& pool : staged.pools) {
    pool_begin.push_back(input.texts.size());
    input.texts.insert(input.texts.end(), pool->texts().begin(), pool->texts().end());
  }
  const std::uint64_t plain_rows = std::accumulate(
      staged.pieces.begin(), staged.pieces.end(), std::uint64_t{0},
      [](std::uint64_t sum, const PackedPiece& piece) { return sum + (piece.is_plain ? piece.rows : 0); });
  if (input.texts.size() + plain_rows > std::numeric_limits<std::uint32_t>::max()) {
    throw base::Failure(base::error("JR-510", "a text column has more than 4,294,967,295 rows of different texts",
                                    "leave the column out, or read fewer files"));
  }
  input.texts.reserve(input.texts.size() + plain_rows);

  std::vector<std::uint64_t> numbers;
  for (PackedPiece& piece : staged.pieces) {
    const std::size_t begin = input.exact.size() + input.real.size() + input.text.size();
    for (std::size_t w = 0; w < piece.null_bits.size(); ++w) {
      for (std::uint64_t left = piece.null_bits[w]; left != 0; left &= left - 1)
        input.is_null[begin + w * 64 + static_cast<std::size_t>(std::countr_zero(left))] = 1;
    }
    if (input.type.kind == TypeKind::real) {
      if (input.real.empty()) input.real.reserve(rows);
      input.real.insert(input.real.end(), piece.reals.begin(), piece.reals.end());
    } else if (piece.is_plain) {
      if (input.text.empty()) input.text.reserve(rows);
      const std::string& plain = owner->second.emplace_back(std::move(piece.plain));
      std::size_t from = 0;
      for (const std::uint32_t end : piece.ends) {
        input.text.push_back(static_cast<std::uint32_t>(input.texts.size()));
        input.texts.push_back(std::string_view(plain).substr(from, end - from));
        from = end;
      }
    } else {
      numbers.resize(piece.rows);
      base::unpack(piece.words.data(), piece.rows, piece.bits, 0, numbers.data());
      if (input.type.kind == TypeKind::text) {
        if (input.text.empty()) input.text.reserve(rows);
        for (const std::uint64_t number : numbers)
          input.text.push_back(static_cast<std::uint32_t>(pool_begin[piece.pool] + number));
      } else {
        if (input.exact.empty()) input.exact.reserve(rows);
        for (const std::uint64_t number : numbers)
          input.exact.push_back(
              static_cast<std::int64_t>(static_cast<std::uint64_t>(piece.base) + number * piece.step));
      }
    }
    piece = {};
  }
  input.owner = std::move(owner);
  return input;
}

}  // namespace juniper::source
