// Texts as numbers that are ordered as the texts are, so that sorting them compares numbers.
//
// Texts of one column mostly use few of the bytes that a place could hold: digits behind a common letter, say. Each
// place gets as many bits as the number of different bytes there asks for ("end of the text" counts as one, smaller
// than all bytes), none where all texts have the same byte. Sixteen hexadecimal digits are 64 bits. A key holds as many
// places from the first on as fit into an upper word of 64 bits and then, none across the border, into a lower one of
// 32; where that is all of every text, the key is the text in another form.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/sort.h"

namespace juniper::store {

class TextKeys {
 public:
  using Key = base::uint128;
  static constexpr unsigned lower_bits = 32;
  static constexpr unsigned key_bits = 64 + lower_bits;

  // Every text is shown once, then `settle`; afterwards the others.
  void look_at(std::string_view text);
  void settle();

  // True where different texts have different keys.
  bool are_whole() const { return whole_; }
  // Of a text that was looked at.
  Key key_of(std::string_view text) const {
    const auto word_of = [&](std::size_t begin, std::size_t end) {
      std::uint64_t word = 0;
      for (std::size_t p = begin; p < std::min(text.size(), end); ++p)
        word |= places_[p].shifted[static_cast<unsigned char>(text[p])];
      return word;
    };
    return static_cast<Key>(word_of(0, upper_places_)) << lower_bits | word_of(upper_places_, places_.size());
  }
  // Where keys are whole: turns `text`, whose key is `before` (any text when it is empty), into the text of `key`, and
  // gives the number of its first bytes that stay.
  std::size_t rewrite(Key before, Key key, std::string& text) const;

 private:
  static constexpr std::size_t most_places = 48;
  static constexpr std::size_t ending = 256;  // what stands at a place behind the last byte of a text

  // What stands at one place of the texts.
  struct Place {
    std::array<std::uint64_t, 256> shifted{};  // the part of each byte in its word of the key; `ending` has 0
    std::vector<std::uint16_t> symbols;        // by their numbers: bytes, or `ending`
    unsigned shift = 0;                        // in its word
    std::uint16_t mask = 0;
  };

  std::array<std::array<std::uint8_t, ending + 1>, most_places> seen_{};
  bool longer_ = false;  // than most_places, some text
  bool whole_ = false;
  std::vector<Place> places_;
  std::size_t upper_places_ = 0;  // of them that stand in the upper word
  std::array<std::uint8_t, key_bits> place_of_bit_{};
};

}  // namespace juniper::store
