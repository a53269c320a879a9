#include "store/codes.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

namespace juniper::store {

namespace {

std::size_t words_for(std::size_t count, unsigned bits) {
  return (count * bits + 63) / 64;
}

void pack(std::span<const std::uint64_t> values, std::uint64_t base, unsigned bits, std::vector<std::uint64_t>& out) {
  const std::size_t begin = out.size();
  out.resize(begin + words_for(values.size(), bits), 0);
  if (bits == 0) return;
  std::size_t bit = 0;
  for (const std::uint64_t value : values) {
    const std::uint64_t v = value - base;
    const std::size_t word = begin + bit / 64;
    const unsigned shift = bit % 64;
    out[word] |= v << shift;
    if (shift + bits > 64) out[word + 1] |= v >> (64 - shift);
    bit += bits;
  }
}

std::uint64_t unpack_one(const std::uint64_t* words, std::size_t index, unsigned bits) {
  if (bits == 0) return 0;
  const std::size_t bit = index * bits;
  const unsigned shift = bit % 64;
  std::uint64_t v = words[bit / 64] >> shift;
  if (shift + bits > 64) v |= words[bit / 64 + 1] << (64 - shift);
  return bits == 64 ? v : v & ((std::uint64_t{1} << bits) - 1);
}

// Adds `base` to `count` packed numbers. All but the last few are read by loads of eight bytes from any address, of
// which a number of up to 57 bits never needs a second one.
void unpack(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint64_t base, std::uint64_t* out) {
  std::size_t i = 0;
  if (bits != 0 && bits <= 57) {
    const auto* const bytes = reinterpret_cast<const unsigned char*>(words);
    const std::uint64_t mask = (std::uint64_t{1} << bits) - 1;
    const std::size_t last_load = words_for(count, bits) * 8 - 8;
    const std::size_t whole = std::min(count, (last_load * 8 + 7) / bits);
    for (; i < whole; ++i) {
      const std::size_t bit = i * bits;
      std::uint64_t v = 0;
      std::memcpy(&v, bytes + bit / 8, sizeof(v));
      out[i] = base + (v >> bit % 8 & mask);
    }
  }
  for (; i < count; ++i) out[i] = base + unpack_one(words, i, bits);
}

unsigned width_of(std::uint64_t range) {
  return static_cast<unsigned>(std::bit_width(range));
}

}  // namespace

void Codes::encode_block(std::span<const std::uint64_t> codes, std::vector<Entry>& directory,
                         std::vector<std::uint64_t>& payload) {
  const auto [low, high] = std::minmax_element(codes.begin(), codes.end());
  Entry entry{};
  entry.base = *low;
  entry.offset = static_cast<std::uint32_t>(payload.size());
  entry.bits = static_cast<std::uint8_t>(width_of(*high - *low));
  if (entry.bits == 0) {
    entry.encoding = static_cast<std::uint8_t>(Encoding::constant);
    directory.push_back(entry);
    return;
  }
  std::vector<std::uint64_t> values;
  std::vector<std::uint16_t> ends;
  for (std::size_t i = 0; i < codes.size(); ++i) {
    if (i == 0 || codes[i] != codes[i - 1]) {
      values.push_back(codes[i]);
      ends.push_back(0);
    }
    ends.back() = static_cast<std::uint16_t>(i + 1);
  }
  const std::size_t end_words = (ends.size() + 3) / 4;
  if (words_for(values.size(), entry.bits) + end_words < words_for(codes.size(), entry.bits)) {
    entry.encoding = static_cast<std::uint8_t>(Encoding::runs);
    entry.runs = static_cast<std::uint16_t>(values.size());
    pack(values, entry.base, entry.bits, payload);
    const std::size_t begin = payload.size();
    payload.resize(begin + end_words, 0);
    std::memcpy(payload.data() + begin, ends.data(), ends.size() * sizeof(ends[0]));
  } else {
    entry.encoding = static_cast<std::uint8_t>(Encoding::packed);
    pack(codes, entry.base, entry.bits, payload);
  }
  directory.push_back(entry);
}

Codes Codes::encode(std::span<const std::uint64_t> codes) {
  std::vector<Entry> directory;
  std::vector<std::uint64_t> payload;
  for (std::size_t begin = 0; begin < codes.size(); begin += block_rows) {
    encode_block(codes.subspan(begin, std::min(block_rows, codes.size() - begin)), directory, payload);
  }
  std::vector<std::byte> bytes;
  bytes.reserve(directory.size() * sizeof(Entry) + payload.size() * 8);
  append(bytes, std::span<const Entry>(directory));
  append(bytes, std::span<const std::uint64_t>(payload));
  return {Bytes(std::move(bytes)), codes.size()};
}

std::uint64_t Codes::at(std::uint64_t row) const {
  const Entry e = entry(row / block_rows);
  const std::size_t index = row % block_rows;
  const std::uint64_t* words = payload(e);
  switch (static_cast<Encoding>(e.encoding)) {
    case Encoding::constant:
      return e.base;
    case Encoding::packed:
      return e.base + unpack_one(words, index, e.bits);
    case Encoding::runs: {
      const auto* const ends = reinterpret_cast<const std::uint16_t*>(words + words_for(e.runs, e.bits));
      const auto run = static_cast<std::size_t>(std::upper_bound(ends, ends + e.runs, index) - ends);
      return e.base + unpack_one(words, run, e.bits);
    }
  }
  return e.base;
}

void Codes::decode_block(std::size_t block, std::uint64_t* out) const {
  const Entry e = entry(block);
  const std::size_t rows = rows_in_block(block);
  const std::uint64_t* words = payload(e);
  switch (static_cast<Encoding>(e.encoding)) {
    case Encoding::constant:
      std::fill_n(out, rows, e.base);
      return;
    case Encoding::packed:
      unpack(words, rows, e.bits, e.base, out);
      return;
    case Encoding::runs: {
      const auto* const ends = reinterpret_cast<const std::uint16_t*>(words + words_for(e.runs, e.bits));
      std::size_t i = 0;
      for (std::size_t run = 0; run < e.runs; ++run) {
        const std::uint64_t value = e.base + unpack_one(words, run, e.bits);
        while (i < ends[run]) out[i++] = value;
      }
      return;
    }
  }
}

bool Codes::blocks_lie_within() const {
  if (bytes_.size() % 8 != 0 || bytes_.size() < blocks() * sizeof(Entry)) return false;
  const std::size_t words = (bytes_.size() - blocks() * sizeof(Entry)) / 8;
  for (std::size_t block = 0; block < blocks(); ++block) {
    const Entry e = entry(block);
    const std::size_t rows = rows_in_block(block);
    if (e.encoding > static_cast<std::uint8_t>(Encoding::runs) || e.bits > 64) return false;
    std::size_t needed = 0;
    if (e.encoding == static_cast<std::uint8_t>(Encoding::packed)) needed = words_for(rows, e.bits);
    if (e.encoding == static_cast<std::uint8_t>(Encoding::runs)) needed = words_for(e.runs, e.bits) + (e.runs + 3U) / 4;
    if (e.offset > words || needed > words - e.offset) return false;
    if (e.encoding == static_cast<std::uint8_t>(Encoding::runs)) {
      const auto* const ends = reinterpret_cast<const std::uint16_t*>(payload(e) + words_for(e.runs, e.bits));
      if (e.runs == 0 || ends[e.runs - 1] != rows || !std::is_sorted(ends, ends + e.runs)) return false;
    }
  }
  return true;
}

bool Codes::is_well_formed(std::uint64_t largest) const {
  if (!blocks_lie_within()) return false;
  std::vector<std::uint64_t> codes(block_rows);
  for (std::size_t block = 0; block < this->blocks(); ++block) {
    decode_block(block, codes.data());
    const auto end = codes.begin() + static_cast<std::ptrdiff_t>(rows_in_block(block));
    if (std::any_of(codes.begin(), end, [largest](std::uint64_t code) { return code > largest; })) return false;
  }
  return true;
}

std::string Codes::describe() const {
  std::array<std::size_t, 3> count{};
  unsigned widest = 0;
  for (std::size_t block = 0; block < blocks(); ++block) {
    const Entry e = entry(block);
    ++count[e.encoding];
    if (e.encoding == static_cast<std::uint8_t>(Encoding::packed)) widest = std::max<unsigned>(widest, e.bits);
  }
  const std::array<std::string, 3> names{"constant", fmt::format("packed {} bits", widest), "runs"};
  std::array<std::size_t, 3> order{0, 1, 2};
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return count[a] > count[b]; });
  std::string text;
  for (const std::size_t i : order) {
    if (count[i] != 0) text += (text.empty() ? "" : " + ") + names[i];
  }
  return text.empty() ? "empty" : text;
}

}  // namespace juniper::store
