// The codes of a column behind links, or the rows that the last of them leads to: for each row of the table behind the
// first link, and for none.
#pragma once

#include <memory>
#include <mutex>
#include <span>
#include <vector>

#include "engine/asked/source.h"

namespace juniper::engine {

class FarCodes {
 public:
  // `path` goes on from the table behind the first link, which has so many rows; codes fit 32 bits. Without a column:
  // rows, and then a path.
  FarCodes(const Source& source, std::span<const language::LinkIndex> path, const store::Column* column,
           std::uint64_t rows);

  std::size_t size() const { return rows_ + 1; }
  std::uint32_t none() const { return none_; }
  // Writes the codes of rows from block * store::block_rows on, as many as a block has, the last of all that of none;
  // returns how many they are.
  std::size_t read_block(std::size_t block, std::uint32_t* out) const;
  // All of them, which are written out when they are first asked for. Several threads may ask at once.
  const std::vector<std::uint32_t>& all() const;

 private:
  const Source& source_;
  std::size_t rows_;
  const store::Codes* stored_ = nullptr;    // of the column, or of the first link
  std::unique_ptr<const FarCodes> behind_;  // for the rows that this link leads to
  std::uint32_t none_ = 0;
  mutable std::once_flag written_;
  mutable std::vector<std::uint32_t> all_;
};

}  // namespace juniper::engine
