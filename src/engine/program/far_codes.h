// The codes of a column behind links, or the rows that the last of them leads to: for each row of the table behind the
// first link, and for none.
#pragma once

#include <memory>
#include <mutex>
#include <span>
#include <vector>

#include "engine/asked/source.h"

namespace juniper::engine {

// Codes that are read on a way along links. Each is the place in the next where it goes on.
struct CodesOnTheWay {
  const store::Codes* codes;
  std::uint64_t none;  // the code that leads nowhere: of null, or of no row
};

// The codes on the way from a table along a path to the codes of a column there, or to rows without one. Of a link that
// is stored by the codes of its key, these and the rows that they lead to stand for it.
std::vector<CodesOnTheWay> codes_along(const Source& source, std::span<const language::LinkIndex> path,
                                       const store::Column* column);

class FarCodes {
 public:
  // All codes fit 32 bits; there is one step at least.
  FarCodes(const Source& source, std::span<const CodesOnTheWay> steps);

  std::size_t size() const { return rows_ + 1; }
  // Writes the codes of rows from block * store::block_rows on, as many as a block has, the last of all that of none;
  // returns how many they are.
  std::size_t read_block(std::size_t block, std::uint32_t* out) const;
  // All of them, which are written out when they are first asked for. Several threads may ask at once.
  const std::vector<std::uint32_t>& all() const;

 private:
  const Source& source_;
  const store::Codes* stored_;  // of the first step
  std::size_t rows_;
  std::unique_ptr<const FarCodes> behind_;  // for the places that these lead to
  std::uint32_t none_;
  mutable std::once_flag written_;
  mutable std::vector<std::uint32_t> all_;
};

}  // namespace juniper::engine
