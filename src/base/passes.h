// Passes over many numbers: plain loops, compiled for each set of instructions that the processor may have; the widest
// one is chosen when the program runs.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>

namespace juniper::base {

// What one pass over numbers and the differences of neighbours tells. Of none and of one there are no differences.
template <class Number>
struct Spread {
  Number low = 0;
  Number high = 0;
  std::size_t changes = 0;  // numbers that are not equal to the one before
  std::size_t falls = 0;    // numbers that are smaller than the one before
  std::int64_t least = 0;   // difference to the one before, as 64 bits that wrap around
  std::int64_t most = 0;
};
Spread<std::uint64_t> spread_of(std::span<const std::uint64_t> numbers);
Spread<std::int64_t> spread_of(std::span<const std::int64_t> numbers);

std::size_t count_equal(std::span<const std::uint64_t> numbers, std::uint64_t wanted);

// Writes number - base of each in `width` bytes, 1, 2, 4 or 8, which hold it; and the numbers that stand so.
void narrow(std::span<const std::uint64_t> numbers, std::uint64_t base, unsigned width, void* out);
void widen(const void* narrow, unsigned width, std::size_t count, std::uint64_t* out);

// Writes value - base of each value, which fits `bits` bits (0 to 64), to words_for(values.size(), bits) words
// (base/bits.h).
void pack(std::span<const std::uint64_t> values, std::uint64_t base, unsigned bits, std::uint64_t* out);

// base + each of `count` packed numbers (base/bits.h) of up to 32 bits, modulo 2^32.
void unpack(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint32_t base, std::uint32_t* out);

// The same for some of them alone: those at `positions`, which ascend, of `count` that there are.
void unpack_at(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint32_t base,
               std::span<const std::uint32_t> positions, std::uint32_t* out);

// Each number becomes the sum of all up to it, modulo 2^32.
void add_up(std::span<std::uint32_t> numbers);

// Rows stand in runs; the bit of a row is set where a run begins, as it does in the first. Writes for each of `rows` rows
// the number of its run, of which `of_runs` holds one for each and may be read `beyond_filled` further.
inline constexpr std::size_t beyond_filled = 16;
void fill_runs(const std::uint64_t* firsts, std::size_t rows, const std::uint32_t* of_runs, std::uint32_t* out);
// Writes for each of some rows, which ascend, which run it is in.
void find_runs(const std::uint64_t* firsts, std::span<const std::uint32_t> rows, std::uint32_t* out);

// Writes the positions of the numbers from `low` to `high`, ascending, and returns how many they are; `out` has room
// for all positions and for 16 more.
std::size_t find_between(std::span<const std::uint32_t> numbers, std::uint32_t low, std::uint32_t high,
                         std::uint32_t* out);
// The same for the numbers whose bit is set: that of 0 is the lowest of the first word.
std::size_t find_in(std::span<const std::uint32_t> numbers, const std::uint32_t* words, std::uint32_t* out);

// Two rows of codes, of which `null_a` and `null_b` stand for nothing: writes the positions where neither is that, and
// a + shift is less than, equal to or greater than b, whichever are asked for. Nothing leaves 31 bits.
struct Compared {
  std::int32_t shift = 0;
  std::uint32_t null_a = 0;
  std::uint32_t null_b = 0;
  bool less = false;
  bool equal = false;
  bool greater = false;
};
std::size_t find_compared(std::span<const std::uint32_t> a, const std::uint32_t* b, const Compared& how,
                          std::uint32_t* out);

// Writes for each number the bit that stands for it in `words`, to words_for(numbers.size(), 1) words.
void test_in(std::span<const std::uint32_t> numbers, const std::uint32_t* words, std::uint64_t* out);
// Rows stand in runs as for `fill_runs`. Writes for each row the bit of its run; what stands behind the last row is 0.
void fill_run_bits(const std::uint64_t* firsts, std::size_t rows, const std::uint64_t* of_runs, std::uint64_t* out);
// Writes the positions of the set bits among the first `count`, as `find_between` does.
std::size_t find_set(const std::uint64_t* bits, std::size_t count, std::uint32_t* out);

// Entries of 2^log_bits bits (1 to 32) stand side by side in words, lowest bits first. Writes, for each number, its
// entry << shift; or adds the bits of that to what stands there.
void look_up(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_bits, unsigned shift,
             std::uint32_t* out);
void add_looked_up(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_bits,
                   unsigned shift, std::uint32_t* out);

// The same of a table in pieces (base/piece_table.h): the word at number >> log_codes holds two entries of number_bits,
// and behind them from which of its codes on the second stands for it.
namespace pieces {
constexpr unsigned number_bits = 10;
}
void look_up_pieces(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_codes,
                    unsigned shift, std::uint32_t* out);
void add_looked_up_pieces(std::span<const std::uint32_t> numbers, const std::uint32_t* words, unsigned log_codes,
                          unsigned shift, std::uint32_t* out);

// Where `part` stands first in a text, from a place on; npos: nowhere. The empty part stands everywhere.
std::size_t find_text(std::string_view text, std::string_view part, std::size_t from);

// Adds all numbers.
std::uint64_t sum_of(std::span<const std::uint32_t> numbers);

// The highest number; 0 of none.
std::uint32_t highest_of(std::span<const std::uint32_t> numbers);

// How many bits of all words are set.
std::size_t count_ones(std::span<const std::uint64_t> words);

}  // namespace juniper::base
