// A table of small numbers by code in which neighbours are mostly the same, as those of a number's whole part or of the band
// that it falls into: pieces of equal numbers. A word for each few hundred codes tells the two numbers among them and
// where the second begins. So a table of many codes stays in the processor's first cache, which is what look-ups of
// millions of codes wait for.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "base/packed_table.h"
#include "base/passes.h"

namespace juniper::base {

class PieceTable {
 public:
  // The same numbers as a table that is too large for that cache; nothing where it is not, where there are too many
  // pieces, or numbers of more than 10 bits.
  static std::optional<PieceTable> of(const PackedTable& table);

  // As those of PackedTable.
  void look_up(std::span<const std::uint32_t> codes, unsigned shift, std::uint32_t* out) const {
    base::look_up_pieces(codes, words_.data(), log_codes_, shift, out);
  }
  void add_looked_up(std::span<const std::uint32_t> codes, unsigned shift, std::uint32_t* out) const {
    base::add_looked_up_pieces(codes, words_.data(), log_codes_, shift, out);
  }

 private:
  std::vector<std::uint32_t> words_;
  unsigned log_codes_ = 0;  // of a word
};

}  // namespace juniper::base
