// The distinct values of a column in ascending order, so that a code is a place in them.
//
// Numbers are kept as Codes (store/codes.h) of what each is above the smallest; reals as the 64-bit number that is
// ordered as they are. Being sorted they become deltas. All are unpacked together when the first one is asked for.
//
// Texts are kept in blocks of 1024, which are unpacked one by one when a text of theirs is asked for. Layout of their
// bytes, all little-endian, everything aligned to 8 bytes:
//
//   block directory   one entry of 32 bytes per block
//     uint64  offset    of the block, from the start of the blocks
//     uint32  bytes     of the block as stored
//     uint32  unpacked  its bytes before compression
//     uint32  hash      the lower half of XXH3 of the stored bytes
//     uint8   encoding  0 shared prefixes, 1 shared prefixes and zstd
//     uint8   0 (11 of them)
//   blocks, each padded to 8 bytes. Unpacked:
//     for each text    varint: how many of its first bytes are those of the text before; varint: how many follow
//     then the bytes that follow, one text behind the other
//   A varint has 7 bits in each byte, the lowest first, and the highest bit set in all but its last byte.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "juniper/value.h"
#include "store/codes.h"

namespace juniper::store {

// Cheap to copy; copies share what was unpacked. May be read from any thread. Reading throws a base::Failure where the
// file is damaged.
class NumberDictionary {
 public:
  NumberDictionary() = default;
  static NumberDictionary encode(std::span<const std::int64_t> sorted);
  static NumberDictionary encode(std::span<const double> sorted);
  // Of codes that a file holds, with the smallest value as `smallest` gives it. When they are unpacked, they must begin
  // with 0, ascend, and end with the distance of the largest value.
  NumberDictionary(Codes codes, std::uint64_t smallest, std::uint64_t distance);
  // A value of a type other than text, as a number that is ordered as the values are, from the smallest one on.
  static std::uint64_t place_of(const Value& value);

  std::int64_t exact(std::uint64_t code) const { return static_cast<std::int64_t>(unpacked()[code]); }
  double real(std::uint64_t code) const;
  // By code, what `exact` gives, as many as there are.
  const std::int64_t* all_exact() const { return reinterpret_cast<const std::int64_t*>(unpacked()); }
  const Codes& codes() const { return codes_; }
  Codes& codes() { return codes_; }
  std::uint64_t smallest() const { return smallest_; }
  // Unpacks them.
  void verify() const { unpacked(); }

 private:
  struct Unpacked;
  NumberDictionary(Codes codes, std::uint64_t smallest);
  const std::uint64_t* unpacked() const;

  Codes codes_;
  std::uint64_t smallest_ = 0;
  std::optional<std::uint64_t> distance_;  // to be checked; nothing: encoded here, and in order
  std::shared_ptr<Unpacked> unpacked_;
};

class TextDictionary {
 public:
  TextDictionary() = default;
  class Encoder;
  // Views `count` texts in the bytes of a file, verified as they are read; nothing if the bytes are too few even for
  // the directory.
  static std::optional<TextDictionary> view(Bytes bytes, std::uint64_t count, std::uint64_t directory_hash,
                                            std::string what);

  // Lives as long as any copy of the dictionary.
  std::string_view at(std::uint64_t code) const;
  std::uint64_t size() const { return count_; }
  const Bytes& bytes() const { return bytes_; }
  // The same bytes in another place, which stand instead of those that are here.
  void move_to(Bytes bytes) { bytes_ = std::move(bytes); }
  std::uint64_t directory_hash() const { return checks_ ? checks_->directory_hash() : hash_bytes(directory()); }
  void verify() const;

 private:
  struct Entry {
    std::uint64_t offset;
    std::uint32_t bytes;
    std::uint32_t unpacked;
    std::uint32_t hash;
    std::uint8_t encoding;
    std::uint8_t zeros[11];
  };
  static_assert(sizeof(Entry) == 32);
  struct Block;
  struct Unpacked;

  TextDictionary(Bytes bytes, std::uint64_t count, std::shared_ptr<const Checks> checks);
  std::size_t blocks() const;
  std::size_t texts_in(std::size_t block) const;
  std::span<const std::byte> directory() const { return bytes_.view().first(blocks() * sizeof(Entry)); }
  const Block& block(std::size_t number) const;
  std::unique_ptr<const Block> unpack(std::size_t number) const;
  [[noreturn]] void fail(std::size_t block, const std::string& how) const;

  Bytes bytes_;
  std::uint64_t count_ = 0;
  std::shared_ptr<const Checks> checks_;
  std::shared_ptr<Unpacked> unpacked_;
};

// Takes texts in ascending order, each once.
class TextDictionary::Encoder {
 public:
  // `shared`: how many of its first bytes are those of the text before.
  void add(std::string_view text, std::size_t shared);
  std::uint64_t size() const { return count_; }
  // All that was added. The encoder can't be used any more.
  TextDictionary finish();

 private:
  void end_block();

  std::uint64_t count_ = 0;
  std::string lengths_;  // of the texts of the block at hand
  std::string rests_;    // what they do not share with the one before
  std::vector<Entry> directory_;
  std::vector<std::byte> stored_;
  std::vector<char> compressed_;
};

}  // namespace juniper::store
