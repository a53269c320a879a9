// A table of small numbers by code, in as few bits as they take: the smaller it is, the more of it stays in the
// processor's caches, which is what look-ups of millions of codes wait for.
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

#include "base/passes.h"

namespace juniper::base {

class PackedTable {
 public:
  // Entries that fill whole words together, however many bits each has.
  static constexpr std::size_t entries_apart = 32;
  // Look-ups count words with 31 bits.
  static constexpr std::size_t most_entries = std::size_t{1} << 31;

  PackedTable() = default;
  // Zeros, with room for numbers of up to `bits` bits (at most 32).
  PackedTable(std::size_t size, unsigned bits)
      : log_bits_(bits <= 1 ? 0 : static_cast<unsigned>(std::bit_width(bits - 1))),
        size_(size),
        words_((size >> (5 - log_bits_)) + 1) {}

  std::size_t size() const { return size_; }
  std::uint32_t operator[](std::size_t code) const {
    return words_[code >> (5 - log_bits_)] >> (code % (32U >> log_bits_) << log_bits_) & mask();
  }
  // The words, which hold entries of one bit each where there was room for one bit.
  std::span<std::uint32_t> words() { return words_; }
  std::span<const std::uint32_t> words() const { return words_; }

  // Adds the bits of a number to the entry of a code.
  void add(std::size_t code, std::uint32_t number) {
    words_[code >> (5 - log_bits_)] |= number << (code % (32U >> log_bits_) << log_bits_);
  }
  // Adds the bits of number << shift to the entry of each code from `first` on, a multiple of `entries_apart`. Several
  // threads may do so at once for different codes.
  template <class Number>
  void add(std::size_t first, std::span<const Number> numbers, unsigned shift) {
    constexpr std::array adders{&PackedTable::add_of<0, Number>, &PackedTable::add_of<1, Number>,
                                &PackedTable::add_of<2, Number>, &PackedTable::add_of<3, Number>,
                                &PackedTable::add_of<4, Number>, &PackedTable::add_of<5, Number>};
    (this->*adders[log_bits_])(first, numbers, shift);
  }

  // The entry << shift of each code: written, or its bits added to what stands there.
  void look_up(std::span<const std::uint32_t> codes, unsigned shift, std::uint32_t* out) const {
    base::look_up(codes, words_.data(), log_bits_, shift, out);
  }
  void add_looked_up(std::span<const std::uint32_t> codes, unsigned shift, std::uint32_t* out) const {
    base::add_looked_up(codes, words_.data(), log_bits_, shift, out);
  }

 private:
  std::uint32_t mask() const { return static_cast<std::uint32_t>((std::uint64_t{1} << (1U << log_bits_)) - 1); }

  template <unsigned log_bits, class Number>
  void add_of(std::size_t first, std::span<const Number> numbers, unsigned shift) {
    constexpr std::size_t in_word = 32U >> log_bits;
    std::uint32_t* word = words_.data() + first / in_word;
    for (std::size_t begin = 0; begin < numbers.size(); begin += in_word) {
      const std::size_t count = std::min(in_word, numbers.size() - begin);
      std::uint32_t bits = 0;
      for (std::size_t i = 0; i < count; ++i)
        bits |= static_cast<std::uint32_t>(numbers[begin + i]) << (shift + (i << log_bits));
      *word++ |= bits;
    }
  }

  unsigned log_bits_ = 0;  // of the bits of an entry
  std::size_t size_ = 0;
  std::vector<std::uint32_t> words_;
};

}  // namespace juniper::base
