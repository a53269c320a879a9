#include "base/passes.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

#include "base/bits.h"
#include "base/instructions.h"

// This file is compiled once for each set of instructions; the best one is chosen when the program runs.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "base/passes.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace juniper::base {
namespace HWY_NAMESPACE {

// The loops have no branches and no calls, so that the compiler makes vector instructions of them.
template <class Number>
HWY_INLINE void spread(const Number* numbers, std::size_t count, Spread<Number>& out) {
  Number low = numbers[0];
  Number high = numbers[0];
  std::size_t changes = 0;
  std::size_t falls = 0;
  std::int64_t least = INT64_MAX;
  std::int64_t most = INT64_MIN;
  for (std::size_t i = 1; i < count; ++i) {
    const Number here = numbers[i];
    const Number before = numbers[i - 1];
    const auto difference =
        static_cast<std::int64_t>(static_cast<std::uint64_t>(here) - static_cast<std::uint64_t>(before));
    low = here < low ? here : low;
    high = here > high ? here : high;
    changes += here != before ? 1 : 0;
    falls += here < before ? 1 : 0;
    least = difference < least ? difference : least;
    most = difference > most ? difference : most;
  }
  out = {low, high, changes, falls, count > 1 ? least : 0, count > 1 ? most : 0};
}

void spread_unsigned(const std::uint64_t* numbers, std::size_t count, Spread<std::uint64_t>& out) {
  spread(numbers, count, out);
}

void spread_signed(const std::int64_t* numbers, std::size_t count, Spread<std::int64_t>& out) {
  spread(numbers, count, out);
}

std::size_t count_equal_here(const std::uint64_t* numbers, std::size_t count, std::uint64_t wanted) {
  std::size_t equal = 0;
  for (std::size_t i = 0; i < count; ++i) equal += numbers[i] == wanted ? 1 : 0;
  return equal;
}

template <class Narrow>
HWY_INLINE void narrow_as(const std::uint64_t* HWY_RESTRICT numbers, std::size_t count, std::uint64_t base,
                          void* HWY_RESTRICT out) {
  auto* const to = static_cast<Narrow*>(out);
  for (std::size_t i = 0; i < count; ++i) to[i] = static_cast<Narrow>(numbers[i] - base);
}

void narrow_here(const std::uint64_t* numbers, std::size_t count, std::uint64_t base, unsigned width, void* out) {
  if (width == 1) return narrow_as<std::uint8_t>(numbers, count, base, out);
  if (width == 2) return narrow_as<std::uint16_t>(numbers, count, base, out);
  if (width == 4) return narrow_as<std::uint32_t>(numbers, count, base, out);
  narrow_as<std::uint64_t>(numbers, count, base, out);
}

template <class Narrow>
HWY_INLINE void widen_as(const void* HWY_RESTRICT narrow, std::size_t count, std::uint64_t* HWY_RESTRICT out) {
  const auto* const from = static_cast<const Narrow*>(narrow);
  for (std::size_t i = 0; i < count; ++i) out[i] = from[i];
}

void widen_here(const void* narrow, unsigned width, std::size_t count, std::uint64_t* out) {
  if (width == 1) return widen_as<std::uint8_t>(narrow, count, out);
  if (width == 2) return widen_as<std::uint16_t>(narrow, count, out);
  if (width == 4) return widen_as<std::uint32_t>(narrow, count, out);
  widen_as<std::uint64_t>(narrow, count, out);
}

// Joins neighbours to numbers of twice the bits; an odd one at the end stays alone.
HWY_INLINE std::size_t join_pairs(const std::uint64_t* HWY_RESTRICT numbers, std::size_t count, std::uint64_t base,
                                  unsigned bits, std::uint64_t* HWY_RESTRICT out) {
  for (std::size_t i = 0; i < count / 2; ++i) out[i] = (numbers[2 * i] - base) | (numbers[2 * i + 1] - base) << bits;
  if (count % 2 != 0) out[count / 2] = numbers[count - 1] - base;
  return (count + 1) / 2;
}

// Neighbours are joined as long as two of them fit one word: what is left to be put behind each other one by one is
// few.
void pack_here(const std::uint64_t* values, std::size_t count, std::uint64_t base, unsigned bits, std::uint64_t* out) {
  constexpr std::size_t part = 2048;  // a multiple of 64, so that each part begins with a word
  std::array<std::uint64_t, part / 2> joined;
  std::array<std::uint64_t, part / 4> joined_again;
  for (std::size_t begin = 0; begin < count; begin += part) {
    const std::uint64_t* from = values + begin;
    std::size_t left = std::min(part, count - begin);
    std::uint64_t low = base;
    unsigned width = bits;
    const std::size_t part_bits = left * bits;
    std::uint64_t* next = joined.data();
    std::uint64_t* after = joined_again.data();
    for (; width <= 32 && left > 1; width *= 2) {
      left = join_pairs(from, left, low, width, next);
      from = next;
      low = 0;
      std::swap(next, after);
    }
    std::uint64_t word = 0;
    unsigned filled = 0;
    std::size_t written = 0;
    const std::size_t words = (part_bits + 63) / 64;
    for (std::size_t i = 0; i < left; ++i) {
      const std::uint64_t v = from[i] - low;
      word |= v << filled;
      filled += width;
      if (filled < 64) continue;
      if (written < words) out[written++] = word;
      filled -= 64;
      word = filled == 0 ? 0 : v >> (width - filled);
    }
    if (filled != 0 && written < words) out[written++] = word;
    out += written;
  }
}

namespace hn = hwy::HWY_NAMESPACE;

#if HWY_TARGET == HWY_SCALAR
// Without vectors of sixteen bytes there is nothing to gain.
std::size_t unpack_eights(const unsigned char*, std::size_t, std::size_t, unsigned, std::uint32_t, std::uint32_t*) {
  return 0;
}
#else
// As many numbers as a vector has lanes, where these are eight or sixteen, take whole bytes, too, and stand in as many
// words of 32 bits: each is picked from one or two neighbours among these.
HWY_INLINE void unpack_many(const unsigned char* HWY_RESTRICT bytes, std::size_t available, std::size_t count,
                            unsigned bits, std::uint32_t base, std::uint32_t* HWY_RESTRICT out, std::size_t& i,
                            std::size_t& at) {
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  if (lanes < 8 || bits > 31) return;
  alignas(64) std::uint32_t lower[16];
  alignas(64) std::uint32_t upper[16];
  alignas(64) std::uint32_t right[16];
  alignas(64) std::uint32_t left[16];
  for (unsigned lane = 0; lane < lanes; ++lane) {
    lower[lane] = lane * bits / 32;
    right[lane] = lane * bits % 32;
    // One that begins with a word lies within it.
    upper[lane] = lower[lane] + (right[lane] == 0 ? 0 : 1);
    left[lane] = right[lane] == 0 ? 0 : 32 - right[lane];
  }
  const auto lower_words = hn::SetTableIndices(d, lower);
  const auto upper_words = hn::SetTableIndices(d, upper);
  const auto to_right = hn::Load(d, right);
  const auto to_left = hn::Load(d, left);
  const auto mask = hn::Set(d, (std::uint32_t{1} << bits) - 1);
  const auto low = hn::Set(d, base);
  const std::size_t step = lanes * bits / 8;
  for (; i + lanes <= count && at + lanes * 4 <= available; i += lanes, at += step) {
    const auto words = hn::LoadU(d, reinterpret_cast<const std::uint32_t*>(bytes + at));
    const auto from_lower = hn::Shr(hn::TableLookupLanes(words, lower_words), to_right);
    const auto from_upper = hn::Shl(hn::TableLookupLanes(words, upper_words), to_left);
    hn::StoreU(hn::Add(hn::And(hn::Or(from_lower, from_upper), mask), low), d, out + i);
  }
}

// Eight numbers of w bits take w bytes, so that the same picking of bytes and shifting of bits does for every eight.
// Four at a time lie within sixteen bytes, and each within four of them as long as it has at most 25 bits.
std::size_t unpack_eights(const unsigned char* HWY_RESTRICT bytes, std::size_t available, std::size_t count,
                          unsigned bits, std::uint32_t base, std::uint32_t* HWY_RESTRICT out) {
  std::size_t i = 0;
  std::size_t at = 0;
  unpack_many(bytes, available, count, bits, base, out, i, at);
  if (bits > 25) return i;
  const hn::FixedTag<std::uint8_t, 16> d8;
  const hn::FixedTag<std::uint32_t, 4> d32;
  alignas(16) std::uint8_t picks[2][16];
  alignas(16) std::uint32_t shifts[2][4];
  for (unsigned half = 0; half < 2; ++half) {
    const unsigned begin = half * 4 * bits / 8 * 8;
    for (unsigned i = 0; i < 4; ++i) {
      const unsigned bit = (half * 4 + i) * bits - begin;
      shifts[half][i] = bit % 8;
      for (unsigned b = 0; b < 4; ++b) picks[half][4 * i + b] = static_cast<std::uint8_t>(std::min(bit / 8 + b, 15U));
    }
  }
  const auto first_pick = hn::Load(d8, picks[0]);
  const auto second_pick = hn::Load(d8, picks[1]);
  const auto first_shift = hn::Load(d32, shifts[0]);
  const auto second_shift = hn::Load(d32, shifts[1]);
  const auto mask = hn::Set(d32, (std::uint32_t{1} << bits) - 1);
  const auto low = hn::Set(d32, base);
  const std::size_t half_bytes = bits / 2;
  for (; i + 8 <= count && at + half_bytes + 16 <= available; i += 8, at += bits) {
    const auto first = hn::BitCast(d32, hn::TableLookupBytes(hn::LoadU(d8, bytes + at), first_pick));
    const auto second = hn::BitCast(d32, hn::TableLookupBytes(hn::LoadU(d8, bytes + at + half_bytes), second_pick));
    hn::StoreU(hn::Add(hn::And(hn::Shr(first, first_shift), mask), low), d32, out + i);
    hn::StoreU(hn::Add(hn::And(hn::Shr(second, second_shift), mask), low), d32, out + i + 4);
  }
  return i;
}
#endif

// Four bytes from the one in which a number begins hold all of its bits, as long as these are at most 25. Those at the
// end of the words are left.
std::size_t unpack_at_here(const unsigned char* HWY_RESTRICT bytes, std::size_t available, unsigned bits,
                           std::uint32_t base, const std::uint32_t* HWY_RESTRICT positions, std::size_t count,
                           std::uint32_t* HWY_RESTRICT out) {
  const hn::CappedTag<std::uint32_t, 16> d;
  const hn::RebindToSigned<decltype(d)> signed_tag;
  const std::size_t lanes = hn::Lanes(d);
  const auto width = hn::Set(d, bits);
  const auto mask = hn::Set(d, (std::uint32_t{1} << bits) - 1);
  const auto in_byte = hn::Set(d, 7U);
  const auto low = hn::Set(d, base);
  std::size_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    if (std::size_t{positions[i + lanes - 1]} * bits / 8 + 4 > available) break;
    const auto bit = hn::Mul(hn::LoadU(d, positions + i), width);
    const auto at = hn::BitCast(signed_tag, hn::ShiftRight<3>(bit));
    const auto held = hn::GatherOffset(d, reinterpret_cast<const std::uint32_t*>(bytes), at);
    hn::StoreU(hn::Add(hn::And(hn::Shr(held, hn::And(bit, in_byte)), mask), low), d, out + i);
  }
  return i;
}

// Within four neighbours, one and then two places are added; then what came before them.
void add_up_here(std::uint32_t* numbers, std::size_t count) {
#if HWY_TARGET == HWY_SCALAR
  for (std::size_t i = 1; i < count; ++i) numbers[i] += numbers[i - 1];
#else
  const hn::FixedTag<std::uint32_t, 4> d;
  auto before = hn::Zero(d);
  std::size_t i = 0;
  for (; i + 4 <= count; i += 4) {
    auto v = hn::LoadU(d, numbers + i);
    v = hn::Add(v, hn::ShiftLeftLanes<1>(d, v));
    v = hn::Add(v, hn::ShiftLeftLanes<2>(d, v));
    v = hn::Add(v, before);
    hn::StoreU(v, d, numbers + i);
    before = hn::Broadcast<3>(v);
  }
  for (i = std::max<std::size_t>(i, 1); i < count; ++i) numbers[i] += numbers[i - 1];
#endif
}

// For each byte of bits but the lowest: how many of the bits up to each place are set, without the lowest.
constexpr auto ones_within = [] {
  std::array<std::array<std::uint8_t, 8>, 128> table{};
  for (unsigned bits = 0; bits < 128; ++bits) {
    for (unsigned place = 1; place < 8; ++place)
      table[bits][place] = static_cast<std::uint8_t>(table[bits][place - 1] + (bits >> (place - 1) & 1));
  }
  return table;
}();

// Eight rows at a time: the number of the run in which the first of them stands is the first of eight that are loaded,
// from which each row picks its own.
void fill_runs_here(const std::uint64_t* HWY_RESTRICT firsts, std::size_t rows,
                    const std::uint32_t* HWY_RESTRICT of_runs, std::uint32_t* HWY_RESTRICT out) {
  std::size_t i = 0;
  std::size_t run = static_cast<std::size_t>(-1);  // of the row before
#if HWY_TARGET != HWY_SCALAR
  const hn::CappedTag<std::uint32_t, 8> d;
  if (hn::Lanes(d) == 8) {
    const hn::Rebind<std::uint8_t, decltype(d)> bytes;
    for (; i + 8 <= rows; i += 8) {
      const auto begins = static_cast<unsigned>(firsts[i / 64] >> i % 64 & 255U);
      const auto numbers = hn::LoadU(d, of_runs + run + (begins & 1));
      const auto picks = hn::PromoteTo(d, hn::LoadU(bytes, ones_within[begins >> 1].data()));
      hn::StoreU(hn::TableLookupLanes(numbers, hn::IndicesFromVec(d, picks)), d, out + i);
      run += static_cast<std::size_t>(std::popcount(begins));
    }
  }
#endif
  for (; i < rows; ++i) {
    run += firsts[i / 64] >> i % 64 & 1;
    out[i] = of_runs[run];
  }
}

void find_runs_here(const std::uint64_t* HWY_RESTRICT firsts, const std::uint32_t* HWY_RESTRICT rows, std::size_t count,
                    std::uint32_t* HWY_RESTRICT out) {
  std::size_t word = 0;
  std::size_t before = 0;  // runs that begin in earlier words
  for (std::size_t i = 0; i < count; ++i) {
    for (; word < rows[i] / 64; ++word) before += static_cast<std::size_t>(std::popcount(firsts[word]));
    const std::uint64_t through = firsts[word] << (63 - rows[i] % 64);
    out[i] = static_cast<std::uint32_t>(before + static_cast<std::size_t>(std::popcount(through)) - 1);
  }
}

std::size_t find_between_here(const std::uint32_t* HWY_RESTRICT numbers, std::size_t count, std::uint32_t low,
                              std::uint32_t high, std::uint32_t* HWY_RESTRICT out) {
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  const auto least = hn::Set(d, low);
  const auto span = hn::Set(d, high - low);
  auto positions = hn::Iota(d, 0);
  const auto step = hn::Set(d, static_cast<std::uint32_t>(lanes));
  std::size_t found = 0;
  std::size_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    const auto outside = hn::Lt(span, hn::Sub(hn::LoadU(d, numbers + i), least));
    found += hn::CompressStore(positions, hn::Not(outside), d, out + found);
    positions = hn::Add(positions, step);
  }
  for (; i < count; ++i) {
    out[found] = static_cast<std::uint32_t>(i);
    found += numbers[i] - low <= high - low ? 1 : 0;
  }
  return found;
}

HWY_INLINE std::uint32_t entry_at(const std::uint32_t* words, std::uint32_t number, unsigned log_bits) {
  const unsigned in_word = number & ((32U >> log_bits) - 1);
  return words[number >> (5 - log_bits)] >> (in_word << log_bits) &
         static_cast<std::uint32_t>((std::uint64_t{1} << (1U << log_bits)) - 1);
}

// The entries of as many numbers as a vector holds.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V entries_at(D d, const std::uint32_t* HWY_RESTRICT words, V numbers, unsigned log_bits) {
  const hn::RebindToSigned<D> signed_tag;
  const auto at = hn::BitCast(signed_tag, hn::ShiftRightSame(numbers, static_cast<int>(5 - log_bits)));
  const V in_word = hn::And(numbers, hn::Set(d, (32U >> log_bits) - 1));
  const V shifts = hn::ShiftLeftSame(in_word, static_cast<int>(log_bits));
  const V mask = hn::Set(d, static_cast<std::uint32_t>((std::uint64_t{1} << (1U << log_bits)) - 1));
  return hn::And(hn::Shr(hn::GatherIndex(d, words, at), shifts), mask);
}

std::size_t find_compared_here(const std::uint32_t* HWY_RESTRICT a, const std::uint32_t* HWY_RESTRICT b,
                               std::size_t count, const Compared& how, std::uint32_t* HWY_RESTRICT out) {
  std::size_t found = 0;
  std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
  const hn::CappedTag<std::int32_t, 16> d;
  const hn::RebindToUnsigned<decltype(d)> unsigned_tag;
  const std::size_t lanes = hn::Lanes(d);
  const auto shift = hn::Set(d, how.shift);
  const auto null_a = hn::Set(d, static_cast<std::int32_t>(how.null_a));
  const auto null_b = hn::Set(d, static_cast<std::int32_t>(how.null_b));
  const auto all = [&](bool set) { return hn::RebindMask(d, hn::Eq(hn::Set(d, set ? 1 : 0), hn::Set(d, 1))); };
  const auto take_less = all(how.less);
  const auto take_equal = all(how.equal);
  const auto take_greater = all(how.greater);
  for (; i + lanes <= count; i += lanes) {
    const auto of_a = hn::LoadU(d, reinterpret_cast<const std::int32_t*>(a + i));
    const auto of_b = hn::LoadU(d, reinterpret_cast<const std::int32_t*>(b + i));
    const auto shifted = hn::Add(of_a, shift);
    const auto passes =
        hn::Or(hn::Or(hn::And(hn::Lt(shifted, of_b), take_less), hn::And(hn::Eq(shifted, of_b), take_equal)),
               hn::And(hn::Gt(shifted, of_b), take_greater));
    const auto values = hn::And(hn::Ne(of_a, null_a), hn::Ne(of_b, null_b));
    const auto positions = hn::Iota(unsigned_tag, static_cast<std::uint32_t>(i));
    found +=
        hn::CompressStore(positions, hn::RebindMask(unsigned_tag, hn::And(passes, values)), unsigned_tag, out + found);
  }
#endif
  for (; i < count; ++i) {
    const std::int32_t shifted = static_cast<std::int32_t>(a[i]) + how.shift;
    const auto of_b = static_cast<std::int32_t>(b[i]);
    const bool passes = shifted < of_b ? how.less : (shifted == of_b ? how.equal : how.greater);
    out[found] = static_cast<std::uint32_t>(i);
    found += passes && a[i] != how.null_a && b[i] != how.null_b ? 1 : 0;
  }
  return found;
}

void test_in_here(const std::uint32_t* HWY_RESTRICT numbers, std::size_t count, const std::uint32_t* HWY_RESTRICT words,
                  std::uint64_t* HWY_RESTRICT out) {
  std::size_t i = 0;
  std::fill_n(out, words_for(count, 1), 0);
#if HWY_TARGET != HWY_SCALAR
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  for (; i + lanes <= count; i += lanes) {
    const auto bits = entries_at(d, words, hn::LoadU(d, numbers + i), 0);
    std::uint8_t mask[8] = {};
    hn::StoreMaskBits(d, hn::Ne(bits, hn::Zero(d)), mask);
    std::uint64_t set = 0;
    std::memcpy(&set, mask, sizeof set);
    out[i / 64] |= set << i % 64;
  }
#endif
  for (; i < count; ++i) out[i / 64] |= std::uint64_t{entry_at(words, numbers[i], 0)} << i % 64;
}

// Word by word: a run whose bit differs from that of the run before turns all bits from its first row on; an exclusive
// or over all bits up to each does so for all runs of a word.
void fill_run_bits_here(const std::uint64_t* HWY_RESTRICT firsts, std::size_t rows,
                        const std::uint64_t* HWY_RESTRICT of_runs, std::uint64_t* HWY_RESTRICT out) {
  std::size_t run = 0;
  std::uint64_t before = 0;  // the bit of the run that goes on
  for (std::size_t w = 0; w < words_for(rows, 1); ++w) {
    const std::uint64_t begins = firsts[w];
    const auto count = static_cast<unsigned>(std::popcount(begins));
    std::uint64_t bits = 0;  // of the runs that begin here
    if (count != 0) {
      bits = of_runs[run / 64] >> run % 64;
      if (run % 64 + count > 64) bits |= of_runs[run / 64 + 1] << (64 - run % 64);
      if (count < 64) bits &= (std::uint64_t{1} << count) - 1;
    }
    const std::uint64_t turns = bits ^ (bits << 1 | before);
#if HWY_TARGET <= HWY_AVX2 && HWY_ARCH_X86_64
    std::uint64_t filled = _pdep_u64(turns, begins);
#else
    std::uint64_t filled = 0;
    std::uint64_t next = turns;
    for (std::uint64_t left = begins; left != 0; left &= left - 1, next >>= 1) {
      if ((next & 1) != 0) filled |= left & (~left + 1);
    }
#endif
    for (unsigned shift = 1; shift < 64; shift *= 2) filled ^= filled << shift;
    out[w] = filled ^ (0 - before);
    if (count != 0) before = bits >> (count - 1) & 1;
    run += count;
  }
  if (rows % 64 != 0) out[rows / 64] &= (std::uint64_t{1} << rows % 64) - 1;
}

std::size_t find_set_here(const std::uint64_t* HWY_RESTRICT bits, std::size_t count, std::uint32_t* HWY_RESTRICT out) {
  std::size_t found = 0;
#if HWY_TARGET == HWY_SCALAR
  for (std::size_t w = 0; w < words_for(count, 1); ++w) {
    for (std::uint64_t left = bits[w]; left != 0; left &= left - 1)
      out[found++] = static_cast<std::uint32_t>(w * 64) + static_cast<std::uint32_t>(std::countr_zero(left));
  }
#else
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  const auto places = hn::Iota(d, 0);
  for (std::size_t w = 0; w < words_for(count, 1); ++w) {
    if (bits[w] == 0) continue;
    for (std::size_t in_word = 0; in_word < 64; in_word += lanes) {
      const std::uint64_t here = bits[w] >> in_word;
      std::uint8_t mask[8];
      std::memcpy(mask, &here, sizeof here);
      const auto positions = hn::Add(places, hn::Set(d, static_cast<std::uint32_t>(w * 64 + in_word)));
      found += hn::CompressStore(positions, hn::LoadMaskBits(d, mask), d, out + found);
    }
  }
#endif
  return found;
}

std::size_t find_in_here(const std::uint32_t* HWY_RESTRICT numbers, std::size_t count,
                         const std::uint32_t* HWY_RESTRICT words, std::uint32_t* HWY_RESTRICT out) {
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  auto positions = hn::Iota(d, 0);
  const auto step = hn::Set(d, static_cast<std::uint32_t>(lanes));
  std::size_t found = 0;
  std::size_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    const auto bits = entries_at(d, words, hn::LoadU(d, numbers + i), 0);
    found += hn::CompressStore(positions, hn::Ne(bits, hn::Zero(d)), d, out + found);
    positions = hn::Add(positions, step);
  }
  for (; i < count; ++i) {
    out[found] = static_cast<std::uint32_t>(i);
    found += entry_at(words, numbers[i], 0);
  }
  return found;
}

template <bool add>
HWY_INLINE void look_up_all(const std::uint32_t* HWY_RESTRICT numbers, std::size_t count,
                            const std::uint32_t* HWY_RESTRICT words, unsigned log_bits, unsigned shift,
                            std::uint32_t* HWY_RESTRICT out) {
  const hn::CappedTag<std::uint32_t, 16> d;
  const std::size_t lanes = hn::Lanes(d);
  std::size_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    const auto entries = entries_at(d, words, hn::LoadU(d, numbers + i), log_bits);
    const auto shifted = hn::ShiftLeftSame(entries, static_cast<int>(shift));
    hn::StoreU(add ? hn::Or(hn::LoadU(d, out + i), shifted) : shifted, d, out + i);
  }
  for (; i < count; ++i) {
    const std::uint32_t shifted = entry_at(words, numbers[i], log_bits) << shift;
    out[i] = add ? out[i] | shifted : shifted;
  }
}

void look_up_here(const std::uint32_t* numbers, std::size_t count, const std::uint32_t* words, unsigned log_bits,
                  unsigned shift, std::uint32_t* out) {
  look_up_all<false>(numbers, count, words, log_bits, shift, out);
}

void add_looked_up_here(const std::uint32_t* numbers, std::size_t count, const std::uint32_t* words, unsigned log_bits,
                        unsigned shift, std::uint32_t* out) {
  look_up_all<true>(numbers, count, words, log_bits, shift, out);
}

template <bool add>
HWY_INLINE void look_up_all_pieces(const std::uint32_t* HWY_RESTRICT numbers, std::size_t count,
                                   const std::uint32_t* HWY_RESTRICT words, unsigned log_codes, unsigned shift,
                                   std::uint32_t* HWY_RESTRICT out) {
  constexpr unsigned bits = pieces::number_bits;
  constexpr std::uint32_t mask = (1U << bits) - 1;
  const std::uint32_t within = (1U << log_codes) - 1;
  std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
  const hn::CappedTag<std::uint32_t, 16> d;
  const hn::RebindToSigned<decltype(d)> di;
  const std::size_t lanes = hn::Lanes(d);
  for (; i + lanes <= count; i += lanes) {
    const auto number = hn::LoadU(d, numbers + i);
    const auto places = hn::BitCast(di, hn::ShiftRightSame(number, static_cast<int>(log_codes)));
    const auto word = hn::GatherIndex(d, words, places);
    const auto is_first =
        hn::Lt(hn::BitCast(di, hn::And(number, hn::Set(d, within))), hn::BitCast(di, hn::ShiftRight<2 * bits>(word)));
    const auto entry =
        hn::And(hn::IfThenElse(hn::RebindMask(d, is_first), word, hn::ShiftRight<bits>(word)), hn::Set(d, mask));
    const auto shifted = hn::ShiftLeftSame(entry, static_cast<int>(shift));
    hn::StoreU(add ? hn::Or(hn::LoadU(d, out + i), shifted) : shifted, d, out + i);
  }
#endif
  for (; i < count; ++i) {
    const std::uint32_t word = words[numbers[i] >> log_codes];
    const bool is_first = (numbers[i] & within) < word >> (2 * bits);
    const std::uint32_t shifted = ((is_first ? word : word >> bits) & mask) << shift;
    out[i] = add ? out[i] | shifted : shifted;
  }
}

void look_up_pieces_here(const std::uint32_t* numbers, std::size_t count, const std::uint32_t* words,
                         unsigned log_codes, unsigned shift, std::uint32_t* out) {
  look_up_all_pieces<false>(numbers, count, words, log_codes, shift, out);
}

void add_looked_up_pieces_here(const std::uint32_t* numbers, std::size_t count, const std::uint32_t* words,
                               unsigned log_codes, unsigned shift, std::uint32_t* out) {
  look_up_all_pieces<true>(numbers, count, words, log_codes, shift, out);
}

// Places where the first and the last byte are right are looked at, as many at a time as a vector has bytes.
std::size_t find_text_here(const char* HWY_RESTRICT text, std::size_t size, const char* HWY_RESTRICT part,
                           std::size_t length, std::size_t from) {
  std::size_t i = from;
#if HWY_TARGET != HWY_SCALAR
  const hn::CappedTag<std::uint8_t, 64> d;
  const std::size_t lanes = hn::Lanes(d);
  const auto* const bytes = reinterpret_cast<const std::uint8_t*>(text);
  const auto first = hn::Set(d, static_cast<std::uint8_t>(part[0]));
  const auto last = hn::Set(d, static_cast<std::uint8_t>(part[length - 1]));
  for (; i + length - 1 + lanes <= size; i += lanes) {
    const auto both =
        hn::And(hn::Eq(hn::LoadU(d, bytes + i), first), hn::Eq(hn::LoadU(d, bytes + i + length - 1), last));
    std::uint8_t mask[8] = {};
    hn::StoreMaskBits(d, both, mask);
    std::uint64_t places = 0;
    std::memcpy(&places, mask, sizeof places);
    for (; places != 0; places &= places - 1) {
      const std::size_t at = i + static_cast<std::size_t>(std::countr_zero(places));
      if (std::memcmp(text + at, part, length) == 0) return at;
    }
  }
#endif
  for (; i + length <= size; ++i) {
    if (text[i] == part[0] && std::memcmp(text + i, part, length) == 0) return i;
  }
  return std::string_view::npos;
}

std::uint64_t sum_here(const std::uint32_t* numbers, std::size_t count) {
  std::uint64_t sum = 0;
  for (std::size_t i = 0; i < count; ++i) sum += numbers[i];
  return sum;
}

std::uint32_t highest_here(const std::uint32_t* numbers, std::size_t count) {
  std::uint32_t highest = 0;
  for (std::size_t i = 0; i < count; ++i) highest = numbers[i] > highest ? numbers[i] : highest;
  return highest;
}

std::size_t count_ones_here(const std::uint64_t* words, std::size_t count) {
  std::size_t ones = 0;
  for (std::size_t i = 0; i < count; ++i) ones += static_cast<std::size_t>(std::popcount(words[i]));
  return ones;
}

}  // namespace HWY_NAMESPACE
}  // namespace juniper::base
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace juniper::base {

JUNIPER_WIDEST(widest_spread_unsigned, spread_unsigned);
JUNIPER_WIDEST(widest_spread_signed, spread_signed);
JUNIPER_WIDEST(widest_count_equal, count_equal_here);
JUNIPER_WIDEST(widest_narrow, narrow_here);
JUNIPER_WIDEST(widest_widen, widen_here);
JUNIPER_WIDEST(widest_pack, pack_here);
JUNIPER_WIDEST(widest_unpack_eights, unpack_eights);
JUNIPER_WIDEST(widest_unpack_at, unpack_at_here);
JUNIPER_WIDEST(widest_add_up, add_up_here);
JUNIPER_WIDEST(widest_fill_runs, fill_runs_here);
JUNIPER_WIDEST(widest_find_runs, find_runs_here);
JUNIPER_WIDEST(widest_find_between, find_between_here);
JUNIPER_WIDEST(widest_find_compared, find_compared_here);
JUNIPER_WIDEST(widest_test_in, test_in_here);
JUNIPER_WIDEST(widest_fill_run_bits, fill_run_bits_here);
JUNIPER_WIDEST(widest_find_set, find_set_here);
JUNIPER_WIDEST(widest_find_in, find_in_here);
JUNIPER_WIDEST(widest_look_up, look_up_here);
JUNIPER_WIDEST(widest_add_looked_up, add_looked_up_here);
JUNIPER_WIDEST(widest_look_up_pieces, look_up_pieces_here);
JUNIPER_WIDEST(widest_add_looked_up_pieces, add_looked_up_pieces_here);
JUNIPER_WIDEST(widest_find_text, find_text_here);
JUNIPER_WIDEST(widest_sum, sum_here);
JUNIPER_WIDEST(widest_highest, highest_here);
JUNIPER_WIDEST(widest_count_ones, count_ones_here);

Spread<std::uint64_t> spread_of(std::span<const std::uint64_t> numbers) {
  Spread<std::uint64_t> spread;
  if (!numbers.empty()) widest_spread_unsigned(numbers.data(), numbers.size(), spread);
  return spread;
}

Spread<std::int64_t> spread_of(std::span<const std::int64_t> numbers) {
  Spread<std::int64_t> spread;
  if (!numbers.empty()) widest_spread_signed(numbers.data(), numbers.size(), spread);
  return spread;
}

std::size_t count_equal(std::span<const std::uint64_t> numbers, std::uint64_t wanted) {
  return widest_count_equal(numbers.data(), numbers.size(), wanted);
}

void narrow(std::span<const std::uint64_t> numbers, std::uint64_t base, unsigned width, void* out) {
  widest_narrow(numbers.data(), numbers.size(), base, width, out);
}

void widen(const void* narrow, unsigned width, std::size_t count, std::uint64_t* out) {
  widest_widen(narrow, width, count, out);
}

void pack(std::span<const std::uint64_t> values, std::uint64_t base, unsigned bits, std::uint64_t* out) {
  if (bits != 0) widest_pack(values.data(), values.size(), base, bits, out);
}

void unpack(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint32_t base, std::uint32_t* out) {
  std::size_t i = 0;
  if (bits == 0) {
    std::fill_n(out, count, base);
    return;
  }
  if (bits <= 31) {
    i = widest_unpack_eights(reinterpret_cast<const unsigned char*>(words), words_for(count, bits) * 8, count, bits,
                             base, out);
  }
  for (; i < count; ++i) out[i] = base + static_cast<std::uint32_t>(unpack_one(words, i, bits));
}

void unpack_at(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint32_t base,
               std::span<const std::uint32_t> positions, std::uint32_t* out) {
  std::size_t i = 0;
  if (bits == 0) {
    std::fill_n(out, positions.size(), base);
    return;
  }
  if (bits <= 25) {
    i = widest_unpack_at(reinterpret_cast<const unsigned char*>(words), words_for(count, bits) * 8, bits, base,
                         positions.data(), positions.size(), out);
  }
  for (; i < positions.size(); ++i) out[i] = base + static_cast<std::uint32_t>(unpack_one(words, positions[i], bits));
}

void add_up(std::span<std::uint32_t> numbers) {
  widest_add_up(numbers.data(), numbers.size());
}

void fill_runs(const std::uint64_t* firsts, std::size_t rows, const std::uint32_t* of_runs, std::uint32_t* out) {
  widest_fill_runs(firsts, rows, of_runs, out);
}

void find_runs(const std::uint64_t* firsts, std::span<const std::uint32_t> rows, std::uint32_t* out) {
  widest_find_runs(firsts, rows.data(), rows.size(), out);
}

std::size_t find_between(std::span<const std::uint32_t> numbers, std::uint32_t low, std::uint32_t high,
                         std::uint32_t* out) {
  return low > high ? 0 : widest_find_between(numbers.data(), numbers.size(), low, high, out);
}

std::size_t find_in(std::span<const std::uint32_t> numbers, const std::uint32_t* words, std::uint32_t* out) {
  return widest_find_in(numbers.data(), numbers.size(), words, out);
}

std::size_t find_compared(std::span<const std::uint32_t> a, const std::uint32_t* b, const Compared& how,
                          std::uint32_t* out) {
  return widest_find_compared(a.data(), b, a.size(), how, out);
}

void test_in(std::span<const std::uint32_t> numbers, const std::uint32_t* words, std::uint64_t* out) {
  widest_test_in(numbers.data(), numbers.size(), words, out);
}

void fill_run_bits(const std::uint64_t* firsts, std::size_t rows, const std::uint64_t* of_runs, std::uint64_t* out) {
  widest_fill_run_bits(firsts, rows, of_runs, out);
}

std::size_t find_set(const std::uint64_t* bits, std::size_t count, std::uint32_t* out) {
  return widest_find_set(bits, count, out);
}

void look_up(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_bits, unsigned shift,
             std::uint32_t* out) {
  widest_look_up(numbers.data(), numbers.size(), words, log_bits, shift, out);
}

void add_looked_up(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_bits,
                   unsigned shift, std::uint32_t* out) {
  widest_add_looked_up(numbers.data(), numbers.size(), words, log_bits, shift, out);
}

void look_up_pieces(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_codes,
                    unsigned shift, std::uint32_t* out) {
  widest_look_up_pieces(numbers.data(), numbers.size(), words, log_codes, shift, out);
}

void add_looked_up_pieces(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_codes,
                          unsigned shift, std::uint32_t* out) {
  widest_add_looked_up_pieces(numbers.data(), numbers.size(), words, log_codes, shift, out);
}

std::size_t find_text(std::string_view text, std::string_view part, std::size_t from) {
  if (part.empty()) return from <= text.size() ? from : std::string_view::npos;
  if (from > text.size() || text.size() - from < part.size()) return std::string_view::npos;
  return widest_find_text(text.data(), text.size(), part.data(), part.size(), from);
}

std::uint64_t sum_of(std::span<const std::uint32_t> numbers) {
  return widest_sum(numbers.data(), numbers.size());
}

std::uint32_t highest_of(std::span<const std::uint32_t> numbers) {
  return widest_highest(numbers.data(), numbers.size());
}

std::size_t count_ones(std::span<const std::uint64_t> words) {
  return widest_count_ones(words.data(), words.size());
}

}  // namespace juniper::base
#endif
