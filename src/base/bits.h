// Rows of unsigned numbers in as many bits each, lowest bits first, across the borders of 64-bit words. base/passes.h
// packs them.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>

namespace juniper::base {

// Bits that a number of up to `largest` needs; 0 for 0.
inline unsigned bits_for(std::uint64_t largest) {
  return static_cast<unsigned>(std::bit_width(largest));
}

inline std::size_t words_for(std::size_t count, unsigned bits) {
  return (count * bits + 63) / 64;
}

inline std::uint64_t unpack_one(const std::uint64_t* words, std::size_t index, unsigned bits) {
  if (bits == 0) return 0;
  const std::size_t bit = index * bits;
  const unsigned shift = bit % 64;
  std::uint64_t v = words[bit / 64] >> shift;
  if (shift + bits > 64) v |= words[bit / 64 + 1] << (64 - shift);
  return bits == 64 ? v : v & ((std::uint64_t{1} << bits) - 1);
}

// base + each of `count` packed numbers.
void unpack(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint64_t base, std::uint64_t* out);

}  // namespace juniper::base
