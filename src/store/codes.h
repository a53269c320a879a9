// A long row of unsigned numbers ("codes") in blocks, each block in whatever encoding is smallest for it.
//
// Layout of its bytes, all little-endian, everything aligned to 8 bytes:
//
//   block directory   one entry of 32 bytes per block of 4096 codes (the last block may be shorter)
//     uint8   encoding    0 constant, 1 packed, 2 runs, 3 delta, 4 frequent, 5 short runs, 6 delta runs
//     uint8   bits        width of a packed number, 0 to 64
//     uint8   other bits  width of a packed checkpoint, for encodings 3 and 6
//     uint8   0
//     uint16  count       of runs, for encodings 2, 5 and 6; of the other codes, for encoding 4
//     uint16  longest     rows of the longest run, for encoding 5 with a step
//     uint32  offset      of the block's payload, in words of 8 bytes from the start of the payload area
//     uint32  hash        the lower half of XXH3 of the payload
//     uint64  base        the smallest code of the block
//     uint64  extra       the smallest difference, for encodings 3 and 6; the frequent code, for encoding 4; the step, for
//                         encoding 5
//   payload area; each row of packed numbers is padded to a word
//     constant   nothing: every code is `base`
//     packed     code - base in `bits` bits each, lowest bits first, crossing word borders
//     runs       code - base of each run, packed; then for each run the uint16 position behind its last row in the
//                block, padded to a word
//     delta      code - base of each 128th row, in `other bits`; then for each row the difference to the row before,
//                less the smallest difference, in `bits` (0 in each 128th row)
//     frequent   one bit for each row, set where the code is another than the frequent one, padded to a word; then
//                code - base of these rows, packed
//     short runs one bit for each row, set in the first row of each run, padded to a word; then code - base of each run,
//                packed. Smaller than runs where these are shorter than 16 rows, as those of an order's lines are. With a
//                step, each row of a run is that much above the row before: the numbers of these lines, or moments of
//                regular readings. Then the code of the block's first row stands before the packed ones, whose first is
//                `base`, as its run may have begun in the block before.
//     delta runs the same bits; then the codes of the runs as a delta, with a checkpoint at each 128th run: the numbers of
//                orders, in their order.
//
// Packed with base is what is called frame of reference; with 64 bits it is the plain form. A single code is found
// without decoding its block: the checkpoints are there so that a delta adds up 127 differences at most.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "store/bytes.h"
#include "store/checks.h"

namespace juniper::base {
template <class Number>
struct Spread;
}

namespace juniper::store {

inline constexpr std::size_t block_rows = 4096;

// What the codes of a file may be, which anybody can have written.
struct Allowed {
  std::uint64_t largest = 0;
  // Only patterns of finite doubles; and, where there are `nulls`, the largest.
  bool reals = false;
  bool nulls = false;

  bool has(std::uint64_t code) const;
  // Whether it has all between two codes, for certain.
  bool has_all(std::uint64_t low, std::uint64_t high) const;
};

class Codes {
 public:
  Codes() = default;

  static Codes encode(std::span<const std::uint64_t> codes);
  class Encoder;
  // Views `count` codes in the bytes of a file. Blocks are verified when they are read for the first time: their
  // checksum, that they lie within the bytes; and codes as long as it isn't known of all codes of their block: that
  // they are allowed. Nothing if the bytes are too few even for the directory.
  static std::optional<Codes> view(Bytes bytes, std::uint64_t count, Allowed allowed, std::uint64_t directory_hash,
                                   std::string what);

  std::uint64_t size() const { return count_; }
  std::size_t blocks() const { return (count_ + block_rows - 1) / block_rows; }
  const Bytes& bytes() const { return bytes_; }
  // The same bytes in another place, which stand instead of those that are here.
  void move_to(Bytes bytes) { bytes_ = std::move(bytes); }
  // As it was when the codes were encoded.
  std::uint64_t directory_hash() const { return checks_ ? checks_->directory_hash() : hash_bytes(directory()); }

  // One code; `row` < size(). Throws a base::Failure if the block is damaged, and so does decode_block.
  std::uint64_t at(std::uint64_t row) const;

  // Decodes one block into `out`, which has room for its rows.
  void decode_block(std::size_t block, std::uint64_t* out) const;
  // The same, where no code needs more than 32 bits.
  void decode_block(std::size_t block, std::uint32_t* out) const;
  // The same for some rows of a block alone; their positions in it ascend.
  void decode_rows(std::size_t block, std::span<const std::uint32_t> rows, std::uint32_t* out) const;
  // Whether a block is stored as short runs of equal codes, be they packed or a delta.
  bool has_short_runs(std::size_t block) const { return has_equal_runs(entry(block)); }
  // Where it is, writes a bit for each of its rows: whether the bit of its code is set in
  // `passes`, which has one for each code. False for any other block.
  bool test_runs(std::size_t block, const std::uint32_t* passes, std::uint64_t* out) const;
  // Codes between which those of a block lie, the lower one not beyond the largest of all; equal where the block holds
  // one code alone.
  struct Bounds {
    std::uint64_t low = 0;
    std::uint64_t high = 0;
  };
  Bounds bounds(std::size_t block) const;
  // Rows of a block that stand together and have one code of up to 32 bits, up to row `end` of the block.
  struct Run {
    std::uint32_t code = 0;
    std::uint32_t end = 0;
  };
  static constexpr std::size_t most_runs = 64;
  // Writes the runs of a block that is stored as up to `most_runs` of them, and returns how many they are; 0 for any
  // other block.
  std::size_t runs(std::size_t block, Run* out) const;
  std::size_t rows_in_block(std::size_t block) const {
    return block + 1 < blocks() ? block_rows : count_ - block * block_rows;
  }
  // All codes.
  std::vector<std::uint64_t> decoded() const;

  // Reads every block that was not read yet. Throws a base::Failure at one that is damaged.
  void verify() const;
  // Throws a base::Failure that says how what was viewed is damaged.
  [[noreturn]] void fail(const std::string& how) const;

  // "packed 5 bits", "constant", "runs + packed": the encodings used, the most frequent first.
  std::string describe() const;

 private:
  enum class Encoding : std::uint8_t { constant, packed, runs, delta, frequent, short_runs, delta_runs };
  static constexpr std::size_t encodings = 7;
  struct Entry {
    Encoding encoding;
    std::uint8_t bits;
    std::uint8_t other_bits;
    std::uint8_t zero;
    std::uint16_t count;
    std::uint16_t longest;
    std::uint32_t offset;
    std::uint32_t hash;
    std::uint64_t base;
    std::uint64_t extra;
  };
  static_assert(sizeof(Entry) == 32);

  Codes(Bytes bytes, std::uint64_t count) : bytes_(std::move(bytes)), count_(count) {}
  std::span<const std::byte> directory() const { return bytes_.view().first(blocks() * sizeof(Entry)); }
  const Entry& entry(std::size_t block) const { return bytes_.as<Entry>(block * sizeof(Entry), 1)[0]; }
  const std::uint64_t* payload(const Entry& entry) const {
    return bytes_.as<std::uint64_t>(blocks() * sizeof(Entry), 0).data() + entry.offset;
  }
  static std::size_t payload_words(const Entry& entry, std::size_t rows);
  void check(std::size_t block) const;
  void check_bytes(std::size_t block) const;
  // Whether codes of a block are to be compared with the largest yet.
  bool doubtful(std::size_t block) const { return checks_ && !checks_->passed(block, Checked::all); }
  std::uint64_t code_in(std::size_t block, std::size_t index) const;
  // One code of a block, or all of them.
  void check_code(std::size_t block, std::uint64_t code) const;
  template <class Code>
  void check_codes(std::size_t block, std::span<const Code> codes) const;
  std::string place(std::size_t block) const;
  static bool has_equal_runs(const Entry& entry) {
    return (entry.encoding == Encoding::short_runs && entry.extra == 0) || entry.encoding == Encoding::delta_runs;
  }
  template <class Code>
  void decode(const Entry& entry, std::size_t rows, Code* out) const;
  // The codes of short runs, in a block of so many rows.
  template <class Code>
  void decode_runs(const Entry& entry, std::size_t rows, Code* out) const;
  // Some rows of a block of so many, where that is less work than to decode all and pick them. False where it isn't.
  bool pick(const Entry& entry, std::size_t in_block, std::span<const std::uint32_t> rows, std::uint32_t* out) const;
  Bounds bounds(const Entry& entry, std::size_t rows) const;
  static std::uint64_t delta_at(const std::uint64_t* words, std::size_t count, std::size_t index, const Entry& entry);
  template <class Code>
  static void decode_delta(const std::uint64_t* words, std::size_t count, const Entry& entry, Code* out);

  Bytes bytes_;
  std::uint64_t count_ = 0;
  Allowed allowed_;
  std::shared_ptr<const Checks> checks_;  // nothing: encoded here, and in order
};

// Encodes codes as they come, block by block.
class Codes::Encoder {
 public:
  // `count` codes up to `largest` will be added.
  Encoder(std::uint64_t count, std::uint64_t largest);
  void add(std::span<const std::uint64_t> codes);
  // All that was added. The encoder can't be used any more.
  Codes finish();

 private:
  using Spread = base::Spread<std::uint64_t>;
  void encode_block(std::span<const std::uint64_t> codes);
  Entry runs(Entry entry, const Spread& spread) const;
  Entry short_runs(Entry entry, const Spread& spread) const;
  Entry stepped_runs(Entry entry) const;
  Entry delta_runs(Entry entry, const Spread& spread) const;
  Entry delta(Entry entry, const Spread& spread) const;
  Entry frequent(Entry entry) const;
  std::uint64_t* more(std::size_t words);
  void pack(std::span<const std::uint64_t> values, std::uint64_t base, unsigned bits);
  void pack_delta(std::span<const std::uint64_t> values, const Entry& entry);
  // Marks the first rows of runs, and puts their codes into `starts_`.
  void find_starts(std::uint64_t step);
  void write(Entry& entry);

  std::uint64_t count_;
  std::vector<std::uint64_t> rest_;       // of what was added: less than a block
  std::span<const std::uint64_t> codes_;  // of the block at hand
  std::vector<Entry> directory_;
  std::size_t directory_words_;
  std::vector<std::uint64_t> words_;  // room for the directory, and the payload
  std::vector<std::uint64_t> scratch_;
  std::vector<std::uint64_t> starts_;
};

}  // namespace juniper::store
