// A long row of unsigned numbers ("codes") in blocks, each block in whatever encoding is smallest for it.
//
// Layout of its bytes, all little-endian, everything aligned to 8 bytes:
//
//   block directory   one entry of 16 bytes per block of 4096 codes (the last block may be shorter)
//     uint8   encoding   0 constant, 1 packed, 2 runs
//     uint8   bits       width of a packed number, 0 to 64
//     uint16  runs       number of runs, for encoding 2
//     uint32  offset     of the block's payload, in words of 8 bytes from the start of the payload area
//     uint64  base       the smallest code of the block
//   payload area
//     constant   nothing: every code is `base`
//     packed     code - base in `bits` bits each, lowest bits first, crossing word borders
//     runs       (code - base) of each run, packed as above and padded to a word; then for each run the uint16
//                position behind its last row in the block, padded to a word
//
// Packed with base is what is called frame of reference; with 64 bits it is the plain form.
#pragma once

#include <cstdint>
#include <span>
#include <string>

#include "store/bytes.h"

namespace juniper::store {

inline constexpr std::size_t block_rows = 4096;

class Codes {
 public:
  Codes() = default;
  // Views `bytes`, which must hold the layout above for `count` codes (`is_well_formed` tells).
  Codes(Bytes bytes, std::uint64_t count) : bytes_(std::move(bytes)), count_(count) {}

  static Codes encode(std::span<const std::uint64_t> codes);

  std::uint64_t size() const { return count_; }
  std::size_t blocks() const { return (count_ + block_rows - 1) / block_rows; }
  const Bytes& bytes() const { return bytes_; }

  // One code; `row` < size().
  std::uint64_t at(std::uint64_t row) const;

  // Decodes one block into `out`, which has room for its rows.
  void decode_block(std::size_t block, std::uint64_t* out) const;
  std::size_t rows_in_block(std::size_t block) const {
    return block + 1 < blocks() ? block_rows : count_ - block * block_rows;
  }

  // True if every block lies within the bytes and no code is larger than `largest`: what a file must pass before it is
  // read.
  bool is_well_formed(std::uint64_t largest) const;

  // "packed 5 bits", "constant", "runs + packed": the encodings used, the most frequent first.
  std::string describe() const;

 private:
  enum class Encoding : std::uint8_t { constant, packed, runs };
  struct Entry {
    std::uint8_t encoding;
    std::uint8_t bits;
    std::uint16_t runs;
    std::uint32_t offset;
    std::uint64_t base;
  };
  static_assert(sizeof(Entry) == 16);

  Entry entry(std::size_t block) const { return bytes_.as<Entry>(block * sizeof(Entry), 1)[0]; }
  bool blocks_lie_within() const;
  const std::uint64_t* payload(const Entry& entry) const {
    return bytes_.as<std::uint64_t>(blocks() * sizeof(Entry), 0).data() + entry.offset;
  }
  static void encode_block(std::span<const std::uint64_t> codes, std::vector<Entry>& directory,
                           std::vector<std::uint64_t>& payload);

  Bytes bytes_;
  std::uint64_t count_ = 0;
};

}  // namespace juniper::store
