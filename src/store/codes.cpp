#include "store/codes.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>
#include <type_traits>
#include <utility>

#include "base/bits.h"
#include "base/exact.h"
#include "base/passes.h"

namespace juniper::store {

using base::bits_for;
using base::count_ones;
using base::unpack;
using base::unpack_one;
using base::words_for;

namespace {

constexpr std::size_t checkpoint_rows = 128;

std::size_t checkpoints(std::size_t rows) {
  return (rows + checkpoint_rows - 1) / checkpoint_rows;
}

// The bytes of numbers as a delta: checkpoints, and a difference for each.
std::size_t delta_words(std::size_t count, unsigned bits, unsigned other_bits) {
  return words_for(checkpoints(count), other_bits) + words_for(count, bits);
}

// How many of the first `count` bits are set.
std::size_t ones_before(const std::uint64_t* words, std::size_t count) {
  const std::size_t whole = count_ones({words, count / 64});
  if (count % 64 == 0) return whole;
  return whole + static_cast<std::size_t>(std::popcount(words[count / 64] & ((std::uint64_t{1} << count % 64) - 1)));
}

// The first row of the run that a row belongs to; the bits of first rows are set.
std::size_t first_of_run(const std::uint64_t* words, std::size_t row) {
  std::size_t w = row / 64;
  std::uint64_t word = words[w] & (~std::uint64_t{0} >> (63 - row % 64));
  while (word == 0) word = words[--w];
  return w * 64 + static_cast<std::size_t>(std::bit_width(word)) - 1;
}

std::size_t longest_run(const std::uint64_t* words, std::size_t rows) {
  std::size_t longest = 0;
  std::size_t begin = 0;
  for (std::size_t w = 0; w < words_for(rows, 1); ++w) {
    for (std::uint64_t left = words[w]; left != 0; left &= left - 1) {
      const std::size_t first = w * 64 + static_cast<std::size_t>(std::countr_zero(left));
      longest = std::max(longest, first - begin);
      begin = first;
    }
  }
  return std::max(longest, rows - begin);
}

}  // namespace

// --- encoding -------------------------------------------------------------------------------------------------------

Codes::Encoder::Encoder(std::uint64_t count, std::uint64_t largest)
    : count_(count), directory_words_((count + block_rows - 1) / block_rows * sizeof(Entry) / 8) {
  // No block is larger than packed. What is not written of so much is never touched, and so takes no memory.
  words_.reserve(directory_words_ + words_for(count, bits_for(largest)) + count / block_rows + 1);
  words_.resize(directory_words_);
}

void Codes::Encoder::add(std::span<const std::uint64_t> codes) {
  if (!rest_.empty()) {
    const std::size_t missing = std::min(block_rows - rest_.size(), codes.size());
    rest_.insert(rest_.end(), codes.begin(), codes.begin() + static_cast<std::ptrdiff_t>(missing));
    codes = codes.subspan(missing);
    if (rest_.size() < block_rows) return;
    encode_block(rest_);
    rest_.clear();
  }
  for (; codes.size() >= block_rows; codes = codes.subspan(block_rows)) encode_block(codes.first(block_rows));
  rest_.assign(codes.begin(), codes.end());
}

Codes Codes::Encoder::finish() {
  if (!rest_.empty()) encode_block(rest_);
  const auto directory = std::as_bytes(std::span(directory_));
  std::copy(directory.begin(), directory.end(), reinterpret_cast<std::byte*>(words_.data()));
  return {Bytes(std::move(words_)), count_};
}

void Codes::Encoder::encode_block(std::span<const std::uint64_t> codes) {
  codes_ = codes;
  const Spread spread = base::spread_of(codes);
  Entry entry{};
  entry.base = spread.low;
  entry.bits = static_cast<std::uint8_t>(bits_for(spread.high - spread.low));
  entry.offset = static_cast<std::uint32_t>(words_.size() - directory_words_);
  if (entry.bits != 0) {
    entry.encoding = Encoding::packed;
    for (const Entry& other : {runs(entry, spread), short_runs(entry, spread), stepped_runs(entry),
                               delta_runs(entry, spread), delta(entry, spread), frequent(entry)}) {
      if (payload_words(other, codes.size()) < payload_words(entry, codes.size())) entry = other;
    }
  }
  write(entry);
  directory_.push_back(entry);
}

Codes::Entry Codes::Encoder::runs(Entry entry, const Spread& spread) const {
  entry.encoding = Encoding::runs;
  entry.count = static_cast<std::uint16_t>(spread.changes + 1);
  return entry;
}

Codes::Entry Codes::Encoder::short_runs(Entry entry, const Spread& spread) const {
  entry = runs(entry, spread);
  entry.encoding = Encoding::short_runs;
  return entry;
}

// Rows of most of which each is as much above the one before. Most differences are told by the vote of some, as below.
Codes::Entry Codes::Encoder::stepped_runs(Entry entry) const {
  const std::size_t apart = std::max<std::size_t>(codes_.size() / 128, 1);
  std::uint64_t step = 0;
  std::ptrdiff_t votes = 0;
  for (std::size_t i = 1; i < codes_.size(); i += apart) {
    const std::uint64_t difference = codes_[i] - codes_[i - 1];
    if (votes == 0) step = difference;
    votes += difference == step ? 1 : -1;
  }
  if (votes <= 0 || step == 0 || step >> 63 != 0) return entry;
  std::uint64_t highest = entry.base;  // of the runs behind the first, which may have begun in the block before
  std::size_t count = 0;
  std::size_t begin = 0;
  std::size_t longest = 0;
  for (std::size_t i = 0; i < codes_.size(); ++i) {
    if (i != 0 && codes_[i] - codes_[i - 1] == step) continue;
    if (i != 0) highest = std::max(highest, codes_[i]);
    longest = std::max(longest, i - begin);
    begin = i;
    ++count;
  }
  entry.encoding = Encoding::short_runs;
  entry.bits = static_cast<std::uint8_t>(bits_for(highest - entry.base));
  entry.count = static_cast<std::uint16_t>(count);
  entry.longest = static_cast<std::uint16_t>(std::max(longest, codes_.size() - begin));
  entry.extra = step;
  return entry;
}

// The codes of neighbouring runs differ by 1 at least, where none falls.
Codes::Entry Codes::Encoder::delta_runs(Entry entry, const Spread& spread) const {
  const std::int64_t least = std::max<std::int64_t>(spread.least, spread.least < 0 ? spread.least : 1);
  entry.other_bits = entry.bits;
  entry = runs(entry, spread);
  entry.encoding = Encoding::delta_runs;
  entry.extra = static_cast<std::uint64_t>(least);
  entry.bits =
      static_cast<std::uint8_t>(bits_for(static_cast<std::uint64_t>(spread.most) - static_cast<std::uint64_t>(least)));
  return entry;
}

Codes::Entry Codes::Encoder::delta(Entry entry, const Spread& spread) const {
  entry.encoding = Encoding::delta;
  std::uint64_t highest = 0;
  for (std::size_t i = 0; i < codes_.size(); i += checkpoint_rows) highest = std::max(highest, codes_[i] - entry.base);
  entry.extra = static_cast<std::uint64_t>(spread.least);
  entry.bits = static_cast<std::uint8_t>(
      bits_for(static_cast<std::uint64_t>(spread.most) - static_cast<std::uint64_t>(spread.least)));
  entry.other_bits = static_cast<std::uint8_t>(bits_for(highest));
  return entry;
}

// Only a code that more than half of the rows have can make this the smallest. The vote of Boyer and Moore finds it
// among a few rows, if there is one; a wrong guess costs a larger entry that is not taken.
Codes::Entry Codes::Encoder::frequent(Entry entry) const {
  const std::size_t apart = std::max<std::size_t>(codes_.size() / 128, 1);
  std::uint64_t candidate = 0;
  std::ptrdiff_t votes = 0;
  for (std::size_t i = 0; i < codes_.size(); i += apart) {
    if (votes == 0) candidate = codes_[i];
    votes += codes_[i] == candidate ? 1 : -1;
  }
  entry.encoding = Encoding::frequent;
  entry.extra = candidate;
  entry.count = static_cast<std::uint16_t>(codes_.size() - base::count_equal(codes_, candidate));
  return entry;
}

std::uint64_t* Codes::Encoder::more(std::size_t words) {
  words_.resize(words_.size() + words, 0);
  return words_.data() + words_.size() - words;
}

void Codes::Encoder::pack(std::span<const std::uint64_t> values, std::uint64_t base, unsigned bits) {
  base::pack(values, base, bits, more(words_for(values.size(), bits)));
}

void Codes::Encoder::pack_delta(std::span<const std::uint64_t> values, const Entry& entry) {
  scratch_.clear();
  for (std::size_t i = 0; i < values.size(); i += checkpoint_rows) scratch_.push_back(values[i]);
  pack(scratch_, entry.base, entry.other_bits);
  scratch_.clear();
  for (std::size_t i = 0; i < values.size(); ++i)
    scratch_.push_back(i % checkpoint_rows == 0 ? entry.extra : values[i] - values[i - 1]);
  pack(scratch_, entry.extra, entry.bits);
}

void Codes::Encoder::find_starts(std::uint64_t step) {
  starts_.clear();
  std::uint64_t* const firsts = more(words_for(codes_.size(), 1));
  for (std::size_t i = 0; i < codes_.size(); ++i) {
    if (i != 0 && codes_[i] - codes_[i - 1] == step) continue;
    firsts[i / 64] |= std::uint64_t{1} << i % 64;
    starts_.push_back(codes_[i]);
  }
}

void Codes::Encoder::write(Entry& entry) {
  const std::size_t begin = words_.size();
  scratch_.clear();
  switch (entry.encoding) {
    case Encoding::constant:
      break;
    case Encoding::packed:
      pack(codes_, entry.base, entry.bits);
      break;
    case Encoding::runs: {
      std::vector<std::uint16_t> ends;
      for (std::size_t i = 0; i < codes_.size(); ++i) {
        if (i == 0 || codes_[i] != codes_[i - 1]) {
          scratch_.push_back(codes_[i]);
          ends.push_back(0);
        }
        ends.back() = static_cast<std::uint16_t>(i + 1);
      }
      pack(scratch_, entry.base, entry.bits);
      std::memcpy(more((ends.size() + 3) / 4), ends.data(), ends.size() * sizeof(ends[0]));
      break;
    }
    case Encoding::short_runs:
      find_starts(entry.extra);
      if (entry.extra != 0) *more(1) = std::exchange(starts_[0], entry.base);
      pack(starts_, entry.base, entry.bits);
      break;
    case Encoding::delta_runs:
      find_starts(0);
      pack_delta(starts_, entry);
      break;
    case Encoding::delta:
      pack_delta(codes_, entry);
      break;
    case Encoding::frequent: {
      std::uint64_t* const others = more(words_for(codes_.size(), 1));
      for (std::size_t i = 0; i < codes_.size(); ++i) {
        if (codes_[i] == entry.extra) continue;
        others[i / 64] |= std::uint64_t{1} << i % 64;
        scratch_.push_back(codes_[i]);
      }
      pack(scratch_, entry.base, entry.bits);
      break;
    }
  }
  entry.hash = short_hash(std::as_bytes(std::span(words_).subspan(begin)));
}

std::size_t Codes::payload_words(const Entry& entry, std::size_t rows) {
  switch (entry.encoding) {
    case Encoding::constant:
      return 0;
    case Encoding::packed:
      return words_for(rows, entry.bits);
    case Encoding::runs:
      return words_for(entry.count, entry.bits) + (entry.count + 3U) / 4;
    case Encoding::delta:
      return delta_words(rows, entry.bits, entry.other_bits);
    case Encoding::delta_runs:
      return words_for(rows, 1) + delta_words(entry.count, entry.bits, entry.other_bits);
    case Encoding::frequent:
      return words_for(rows, 1) + words_for(entry.count, entry.bits);
    case Encoding::short_runs:
      return words_for(rows, 1) + (entry.extra == 0 ? 0 : 1) + words_for(entry.count, entry.bits);
  }
  return 0;
}

Codes Codes::encode(std::span<const std::uint64_t> codes) {
  Encoder encoder(codes.size(), codes.empty() ? 0 : *std::max_element(codes.begin(), codes.end()));
  encoder.add(codes);
  return encoder.finish();
}

// --- reading --------------------------------------------------------------------------------------------------------

bool Allowed::has(std::uint64_t code) const {
  if (!reals) return code <= largest;
  return std::isfinite(std::bit_cast<double>(code)) || (nulls && code == largest);
}

bool Allowed::has_all(std::uint64_t low, std::uint64_t high) const {
  if (!reals) return high <= largest;
  // Patterns of one sign are ordered as their sizes are, and infinity is behind the finite ones.
  return low >> 63 == high >> 63 && std::isfinite(std::bit_cast<double>(high));
}

std::optional<Codes> Codes::view(Bytes bytes, std::uint64_t count, Allowed allowed, std::uint64_t directory_hash,
                                 std::string what) {
  Codes codes(std::move(bytes), count);
  if (codes.bytes_.size() % 8 != 0 || codes.bytes_.size() / sizeof(Entry) < codes.blocks()) return std::nullopt;
  codes.allowed_ = allowed;
  codes.checks_ = std::make_shared<const Checks>(std::move(what), directory_hash, codes.blocks());
  return codes;
}

void Codes::check(std::size_t block) const {
  if (checks_ && !checks_->passed(block, Checked::bytes)) check_bytes(block);
}

// Codes that are not allowed are looked for when they are decoded, unless the block's bits rule them out.
void Codes::check_bytes(std::size_t block) const {
  checks_->check_directory(directory());
  const Entry& e = entry(block);
  const std::size_t rows = rows_in_block(block);
  const std::size_t words = (bytes_.size() - blocks() * sizeof(Entry)) / 8;
  const auto must = [&](bool good) {
    if (!good) checks_->fail(place(block) + " do not hold together");
  };
  must(static_cast<std::size_t>(e.encoding) < encodings && e.bits <= 64 && e.other_bits <= 64);
  const std::size_t length = payload_words(e, rows);
  must(e.offset <= words && length <= words - e.offset);
  if (short_hash(std::as_bytes(std::span(payload(e), length))) != e.hash)
    checks_->fail("the checksum of " + place(block) + " differs");
  if (e.encoding == Encoding::runs) {
    const auto* const ends = reinterpret_cast<const std::uint16_t*>(payload(e) + words_for(e.count, e.bits));
    must(e.count != 0 && ends[e.count - 1] == rows && std::is_sorted(ends, ends + e.count));
  }
  const bool marks_firsts = e.encoding == Encoding::short_runs || e.encoding == Encoding::delta_runs;
  if (e.encoding == Encoding::frequent || marks_firsts) {
    must(count_ones({payload(e), words_for(rows, 1)}) == e.count &&
         (rows % 64 == 0 || payload(e)[rows / 64] >> rows % 64 == 0));
    must(!marks_firsts || (payload(e)[0] & 1) != 0);
    must(!marks_firsts || has_equal_runs(e) || longest_run(payload(e), rows) == e.longest);
  }
  const Bounds within = bounds(e, rows);
  must(within.low <= allowed_.largest);
  checks_->pass(block, allowed_.has_all(within.low, within.high) ? Checked::all : Checked::bytes);
}

void Codes::check_code(std::size_t block, std::uint64_t code) const {
  if (!allowed_.has(code)) checks_->fail(place(block) + " do not hold together");
}

template <class Code>
void Codes::check_codes(std::size_t block, std::span<const Code> codes) const {
  if (allowed_.reals) {
    for (const Code code : codes) check_code(block, code);
  } else if constexpr (std::is_same_v<Code, std::uint32_t>) {
    check_code(block, base::highest_of(codes));
  } else {
    check_code(block, base::spread_of(codes).high);
  }
  checks_->pass(block, Checked::all);
}

void Codes::fail(const std::string& how) const {
  if (checks_) checks_->fail(how);
  std::terminate();  // encoded here: a fault of this program
}

std::string Codes::place(std::size_t block) const {
  return fmt::format("rows {} to {}", block * block_rows + 1, block * block_rows + rows_in_block(block));
}

void Codes::verify() const {
  std::array<std::uint64_t, block_rows> codes;
  for (std::size_t block = 0; block < blocks(); ++block) {
    check(block);
    if (doubtful(block)) decode_block(block, codes.data());
  }
}

std::uint64_t Codes::at(std::uint64_t row) const {
  const std::size_t block = row / block_rows;
  check(block);
  const std::uint64_t code = code_in(block, row % block_rows);
  if (doubtful(block)) check_code(block, code);
  return code;
}

std::uint64_t Codes::code_in(std::size_t block, std::size_t index) const {
  const Entry& e = entry(block);
  const std::uint64_t* words = payload(e);
  switch (e.encoding) {
    case Encoding::constant:
      return e.base;
    case Encoding::packed:
      return e.base + unpack_one(words, index, e.bits);
    case Encoding::runs: {
      const auto* const ends = reinterpret_cast<const std::uint16_t*>(words + words_for(e.count, e.bits));
      const auto run = static_cast<std::size_t>(std::upper_bound(ends, ends + e.count, index) - ends);
      return e.base + unpack_one(words, run, e.bits);
    }
    case Encoding::delta:
      return delta_at(words, rows_in_block(block), index, e);
    case Encoding::frequent: {
      if ((words[index / 64] >> index % 64 & 1) == 0) return e.extra;
      return e.base + unpack_one(words + words_for(rows_in_block(block), 1), ones_before(words, index), e.bits);
    }
    case Encoding::short_runs: {
      const std::size_t run = ones_before(words, index + 1) - 1;
      const std::uint64_t* const runs = words + words_for(rows_in_block(block), 1);
      if (e.extra == 0) return e.base + unpack_one(runs, run, e.bits);
      const std::uint64_t start = run == 0 ? *runs : e.base + unpack_one(runs + 1, run, e.bits);
      return start + e.extra * (index - first_of_run(words, index));
    }
    case Encoding::delta_runs: {
      const std::size_t run = ones_before(words, index + 1) - 1;
      return delta_at(words + words_for(rows_in_block(block), 1), e.count, run, e);
    }
  }
  return e.base;
}

// One of so many numbers that stand as a delta.
std::uint64_t Codes::delta_at(const std::uint64_t* words, std::size_t count, std::size_t index, const Entry& e) {
  const std::size_t checkpoint = index / checkpoint_rows;
  std::uint64_t code = e.base + unpack_one(words, checkpoint, e.other_bits);
  words += words_for(checkpoints(count), e.other_bits);
  for (std::size_t i = checkpoint * checkpoint_rows + 1; i <= index; ++i)
    code += e.extra + unpack_one(words, i, e.bits);
  return code;
}

namespace {

// Each number becomes the sum of all up to it.
void add_up(std::span<std::uint32_t> numbers) {
  base::add_up(numbers);
}
void add_up(std::span<std::uint64_t> numbers) {
  for (std::size_t i = 1; i < numbers.size(); ++i) numbers[i] += numbers[i - 1];
}

// Each row gets the code of its run; `firsts` has the bits of the first rows of runs.
void fill_runs(const std::uint64_t* firsts, std::size_t rows, const std::uint32_t* of_runs, std::uint32_t* out) {
  base::fill_runs(firsts, rows, of_runs, out);
}
void fill_runs(const std::uint64_t* firsts, std::size_t rows, const std::uint64_t* of_runs, std::uint64_t* out) {
  for (std::size_t i = 0; i < rows; ++i) {
    of_runs += i == 0 ? 0 : firsts[i / 64] >> i % 64 & 1;
    out[i] = *of_runs;
  }
}

}  // namespace

template <class Code>
void Codes::decode_delta(const std::uint64_t* words, std::size_t count, const Entry& e, Code* out) {
  if constexpr (std::is_same_v<Code, std::uint32_t>) {
    if (e.bits > 32) {  // differences may need a bit more than codes
      std::array<std::uint64_t, block_rows> wide;
      decode_delta(words, count, e, wide.data());
      std::copy_n(wide.begin(), count, out);
      return;
    }
  }
  unpack(words + words_for(checkpoints(count), e.other_bits), count, e.bits, static_cast<Code>(e.extra), out);
  for (std::size_t begin = 0; begin < count; begin += checkpoint_rows) {
    out[begin] = static_cast<Code>(e.base + unpack_one(words, begin / checkpoint_rows, e.other_bits));
    add_up(std::span(out + begin, std::min(checkpoint_rows, count - begin)));
  }
}

template <class Code>
void Codes::decode_runs(const Entry& e, std::size_t rows, Code* out) const {
  const std::uint64_t* const words = payload(e) + words_for(rows, 1);
  if (e.encoding == Encoding::delta_runs) {
    decode_delta(words, e.count, e, out);
  } else if (e.extra == 0) {
    unpack(words, e.count, e.bits, static_cast<Code>(e.base), out);
  } else {
    unpack(words + 1, e.count, e.bits, static_cast<Code>(e.base), out);
    out[0] = static_cast<Code>(*words);
  }
}

// Codes of 32 bits are computed modulo 2^32 all the way.
template <class Code>
void Codes::decode(const Entry& e, std::size_t rows, Code* out) const {
  const std::uint64_t* words = payload(e);
  switch (e.encoding) {
    case Encoding::constant:
      std::fill_n(out, rows, static_cast<Code>(e.base));
      return;
    case Encoding::packed:
      unpack(words, rows, e.bits, static_cast<Code>(e.base), out);
      return;
    case Encoding::runs: {
      const auto* const ends = reinterpret_cast<const std::uint16_t*>(words + words_for(e.count, e.bits));
      std::size_t i = 0;
      for (std::size_t run = 0; run < e.count; ++run) {
        std::fill(out + i, out + ends[run], static_cast<Code>(e.base + unpack_one(words, run, e.bits)));
        i = ends[run];
      }
      return;
    }
    case Encoding::delta:
      decode_delta(words, rows, e, out);
      return;
    case Encoding::short_runs:
    case Encoding::delta_runs: {
      std::array<Code, block_rows + base::beyond_filled> of_runs;
      decode_runs(e, rows, of_runs.data());
      if (!has_equal_runs(e)) {
        // What each would be in the block's first row.
        std::size_t run = 0;
        for (std::size_t w = 0; w < words_for(rows, 1); ++w) {
          for (std::uint64_t left = words[w]; left != 0; left &= left - 1)
            of_runs[run++] -= static_cast<Code>(e.extra * (w * 64 + static_cast<std::size_t>(std::countr_zero(left))));
        }
      }
      fill_runs(words, rows, of_runs.data(), out);
      if (!has_equal_runs(e)) {
        const auto step = static_cast<Code>(e.extra);
        for (std::size_t i = 0; i < rows; ++i) out[i] += step * static_cast<Code>(i);
      }
      return;
    }
    case Encoding::frequent: {
      std::array<Code, block_rows> others;
      unpack(words + words_for(rows, 1), e.count, e.bits, static_cast<Code>(e.base), others.data());
      std::fill_n(out, rows, static_cast<Code>(e.extra));
      const Code* next = others.data();
      for (std::size_t w = 0; w < words_for(rows, 1); ++w) {
        for (std::uint64_t left = words[w]; left != 0; left &= left - 1)
          out[w * 64 + static_cast<std::size_t>(std::countr_zero(left))] = *next++;
      }
      return;
    }
  }
}

void Codes::decode_block(std::size_t block, std::uint64_t* out) const {
  check(block);
  const std::size_t rows = rows_in_block(block);
  decode(entry(block), rows, out);
  if (doubtful(block)) check_codes(block, std::span<const std::uint64_t>(out, rows));
}

void Codes::decode_block(std::size_t block, std::uint32_t* out) const {
  check(block);
  const Entry& e = entry(block);
  const std::size_t rows = rows_in_block(block);
  if (doubtful(block) && bounds(e, rows).high > std::numeric_limits<std::uint32_t>::max()) {
    std::array<std::uint64_t, block_rows> wide;  // a code that is too large must not look like a smaller one
    decode_block(block, wide.data());
  }
  decode(e, rows, out);
  if (doubtful(block)) check_codes(block, std::span<const std::uint32_t>(out, rows));
}

bool Codes::pick(const Entry& e, std::size_t in_block, std::span<const std::uint32_t> rows, std::uint32_t* out) const {
  const std::uint64_t* const words = payload(e);
  const auto base = static_cast<std::uint32_t>(e.base);
  // A row that is picked costs as much as a few that are decoded one after the other.
  const bool few = rows.size() < in_block / 4;
  switch (e.encoding) {
    case Encoding::constant:
      std::fill_n(out, rows.size(), base);
      return true;
    case Encoding::packed:
      if (few) base::unpack_at(words, in_block, e.bits, base, rows, out);
      return few;
    case Encoding::runs: {
      const auto* end = reinterpret_cast<const std::uint16_t*>(words + words_for(e.count, e.bits));
      const auto* const first = end;
      for (std::size_t i = 0; i < rows.size(); ++i) {
        while (*end <= rows[i]) ++end;
        out[i] = base + static_cast<std::uint32_t>(unpack_one(words, static_cast<std::size_t>(end - first), e.bits));
      }
      return true;
    }
    case Encoding::short_runs: {
      if (!few || e.extra != 0) return false;
      std::array<std::uint32_t, block_rows> runs;
      base::find_runs(words, rows, runs.data());
      base::unpack_at(words + words_for(in_block, 1), e.count, e.bits, base, std::span(runs).first(rows.size()), out);
      return true;
    }
    case Encoding::delta_runs: {
      if (!few) return false;
      std::array<std::uint32_t, block_rows> runs;
      std::array<std::uint32_t, block_rows> codes;
      base::find_runs(words, rows, runs.data());
      decode_runs(e, in_block, codes.data());
      for (std::size_t i = 0; i < rows.size(); ++i) out[i] = codes[runs[i]];
      return true;
    }
    case Encoding::delta:
    case Encoding::frequent:
      return false;
  }
  return false;
}

void Codes::decode_rows(std::size_t block, std::span<const std::uint32_t> rows, std::uint32_t* out) const {
  check(block);
  if (doubtful(block) || !pick(entry(block), rows_in_block(block), rows, out)) {
    std::array<std::uint32_t, block_rows> all;
    decode_block(block, all.data());
    for (std::size_t i = 0; i < rows.size(); ++i) out[i] = all[rows[i]];
  }
}

bool Codes::test_runs(std::size_t block, const std::uint32_t* passes, std::uint64_t* out) const {
  check(block);
  const Entry& e = entry(block);
  if (!has_equal_runs(e) || doubtful(block)) return false;
  const std::size_t rows = rows_in_block(block);
  const std::uint64_t* const words = payload(e);
  std::array<std::uint32_t, block_rows> codes;
  std::array<std::uint64_t, block_rows / 64> of_runs;
  decode_runs(e, rows, codes.data());
  base::test_in(std::span(codes).first(e.count), passes, of_runs.data());
  base::fill_run_bits(words, rows, of_runs.data(), out);
  return true;
}

std::size_t Codes::runs(std::size_t block, Run* out) const {
  check(block);
  const Entry& e = entry(block);
  const bool doubt = doubtful(block);
  if (e.encoding == Encoding::constant) {
    out[0] = {static_cast<std::uint32_t>(e.base), static_cast<std::uint32_t>(rows_in_block(block))};
    return 1;
  }
  if (e.encoding != Encoding::runs || e.count > most_runs) return 0;
  const auto* const ends = reinterpret_cast<const std::uint16_t*>(payload(e) + words_for(e.count, e.bits));
  for (std::size_t i = 0; i < e.count; ++i) {
    const std::uint64_t code = e.base + unpack_one(payload(e), i, e.bits);
    if (doubt) check_code(block, code);
    out[i] = {static_cast<std::uint32_t>(code), ends[i]};
  }
  return e.count;
}

Codes::Bounds Codes::bounds(std::size_t block) const {
  check(block);
  return bounds(entry(block), rows_in_block(block));
}

Codes::Bounds Codes::bounds(const Entry& e, std::size_t rows) const {
  const std::uint64_t all = std::numeric_limits<std::uint64_t>::max();
  const auto span_of = [&](unsigned bits) { return bits == 64 ? all : (std::uint64_t{1} << bits) - 1; };
  if (e.encoding == Encoding::delta || e.encoding == Encoding::delta_runs) {
    // From the lowest checkpoint the smallest step each time, from the highest one the largest.
    constexpr int128 steps = checkpoint_rows - 1;
    const int128 least = static_cast<std::int64_t>(e.extra);
    const int128 low = int128{e.base} + std::min<int128>(least * steps, 0);
    const int128 high = int128{e.base} + span_of(e.other_bits) + std::max<int128>((least + span_of(e.bits)) * steps, 0);
    if (low < 0 || high > all) return {0, all};
    return {static_cast<std::uint64_t>(low), static_cast<std::uint64_t>(high)};
  }
  if (e.encoding == Encoding::short_runs && e.extra != 0) {
    const std::uint64_t first = payload(e)[words_for(rows, 1)];
    const auto highest = std::max<base::uint128>(first, base::uint128{e.base} + span_of(e.bits));
    const base::uint128 high = highest + base::uint128{e.extra} * (e.longest - 1U);
    return high > all ? Bounds{0, all} : Bounds{std::min(e.base, first), static_cast<std::uint64_t>(high)};
  }
  const std::uint64_t span = span_of(e.bits);
  const Bounds packed{e.base, e.base > all - span ? all : e.base + span};
  return e.encoding == Encoding::frequent ? Bounds{std::min(packed.low, e.extra), std::max(packed.high, e.extra)}
                                          : packed;
}

std::vector<std::uint64_t> Codes::decoded() const {
  std::vector<std::uint64_t> codes(count_);
  for (std::size_t block = 0; block < blocks(); ++block) decode_block(block, codes.data() + block * block_rows);
  return codes;
}

std::string Codes::describe() const {
  std::array<std::size_t, encodings> count{};
  unsigned widest = 0;
  for (std::size_t block = 0; block < blocks(); ++block) {
    const Entry& e = entry(block);
    ++count[static_cast<std::size_t>(e.encoding)];
    if (e.encoding == Encoding::packed) widest = std::max<unsigned>(widest, e.bits);
  }
  const std::array<std::string, encodings> names{
      "constant", fmt::format("packed {} bits", widest), "runs", "delta", "frequent", "short runs", "delta runs"};
  std::array<std::size_t, encodings> order{0, 1, 2, 3, 4, 5, 6};
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return count[a] > count[b]; });
  std::string text;
  for (const std::size_t i : order) {
    if (count[i] != 0) text += (text.empty() ? "" : " + ") + names[i];
  }
  return text.empty() ? "empty" : text;
}

}  // namespace juniper::store
