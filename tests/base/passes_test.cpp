// Passes over numbers and their sort, at every set of instructions that this processor has, beside plain loops.
#include "base/passes.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <numeric>
#include <random>

#include "base/bits.h"
#include "base/instructions.h"
#include "base/packed_table.h"
#include "base/sort.h"
#include "support/every_level.h"

namespace juniper::base::passes_test {
namespace {

class Passes : public testing::Test {
 protected:
  // Numbers of up to so many bits.
  std::vector<std::uint64_t> numbers(std::size_t count, unsigned bits) {
    std::vector<std::uint64_t> made(count);
    for (std::uint64_t& number : made) number = bits == 0 ? 0 : random_() >> (64 - bits);
    return made;
  }

  const std::vector<std::size_t> lengths_{0, 1, 2, 3, 7, 15, 16, 17, 63, 64, 65, 255, 2047, 2048, 2049, 4096, 5003};
  std::mt19937_64 random_{7};
};

template <class Number>
void expect_spread(const std::vector<Number>& numbers) {
  Spread<Number> expected;
  for (std::size_t i = 0; i < numbers.size(); ++i) {
    if (i == 0) expected.low = expected.high = numbers[0];
    expected.low = std::min(expected.low, numbers[i]);
    expected.high = std::max(expected.high, numbers[i]);
    if (i == 0) continue;
    const auto difference =
        static_cast<std::int64_t>(static_cast<std::uint64_t>(numbers[i]) - static_cast<std::uint64_t>(numbers[i - 1]));
    expected.changes += numbers[i] != numbers[i - 1] ? 1U : 0U;
    expected.falls += numbers[i] < numbers[i - 1] ? 1U : 0U;
    expected.least = i == 1 ? difference : std::min(expected.least, difference);
    expected.most = i == 1 ? difference : std::max(expected.most, difference);
  }
  const auto found = spread_of(std::span<const Number>(numbers));
  EXPECT_EQ(found.low, expected.low);
  EXPECT_EQ(found.high, expected.high);
  EXPECT_EQ(found.changes, expected.changes);
  EXPECT_EQ(found.falls, expected.falls);
  EXPECT_EQ(found.least, expected.least);
  EXPECT_EQ(found.most, expected.most);
}

TEST(Instructions, AreThoseThatHighwayFinds) {
  EXPECT_EQ(instructions_here() & ~hwy::SupportedTargets() & HWY_TARGETS, 0);
#if HWY_ARCH_X86
  EXPECT_EQ(instructions_here() & HWY_TARGETS, hwy::SupportedTargets() & HWY_TARGETS);
#endif
}

TEST_F(Passes, SpreadAndCountEqualPlainLoops) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (const unsigned bits : {0U, 1U, 3U, 40U, 64U}) {
        SCOPED_TRACE(testing::Message() << length << " numbers of " << bits << " bits");
        const auto unsigned_numbers = numbers(length, bits);
        expect_spread(unsigned_numbers);
        expect_spread(std::vector<std::int64_t>(unsigned_numbers.begin(), unsigned_numbers.end()));
        EXPECT_EQ(count_equal(unsigned_numbers, 1),
                  static_cast<std::size_t>(std::count(unsigned_numbers.begin(), unsigned_numbers.end(), 1)));
      }
    }
  });
}

TEST_F(Passes, NarrowNumbersBecomeWideAgain) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (const unsigned width : {1U, 2U, 4U, 8U}) {
        const std::uint64_t base = 123'456'789;
        std::vector<std::uint64_t> above = numbers(length, 8 * width);
        std::vector<std::uint64_t> with_base = above;
        for (std::uint64_t& number : with_base) number += base;
        std::vector<std::uint64_t> packed((length * width + 7) / 8 + 1, 42);
        narrow(with_base, base, width, packed.data());
        EXPECT_EQ(packed.back(), 42U) << "written past the end";
        std::vector<std::uint64_t> wide(length);
        widen(packed.data(), width, length, wide.data());
        EXPECT_EQ(wide, above) << length << " of " << width << " bytes";
      }
    }
  });
}

TEST_F(Passes, PackedNumbersUnpackAtEveryWidth) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (unsigned bits = 0; bits <= 64; ++bits) {
        const std::uint64_t base = 77;
        std::vector<std::uint64_t> values = numbers(length, bits);
        for (std::uint64_t& value : values) value += base;
        std::vector<std::uint64_t> words(words_for(length, bits) + 1, 42);
        pack(values, base, bits, words.data());
        ASSERT_EQ(words.back(), 42U) << "written past the end: " << length << " of " << bits << " bits";
        std::vector<std::uint64_t> found(length);
        unpack(words.data(), length, bits, base, found.data());
        ASSERT_EQ(found, values) << length << " of " << bits << " bits";
      }
    }
  });
}

TEST_F(Passes, PackedNumbersUnpackTo32BitsAtEveryWidth) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (unsigned bits = 0; bits <= 32; ++bits) {
        const std::vector<std::uint64_t> values = numbers(length, bits);
        // Exactly the words that the numbers need, so that a read past their end is found out.
        std::vector<std::uint64_t> words(words_for(length, bits));
        pack(values, 0, bits, words.data());
        std::vector<std::uint32_t> found(length + 1, 42);
        unpack(words.data(), length, bits, 0xFFFFFFF0U, found.data());
        for (std::size_t i = 0; i < length; ++i)
          ASSERT_EQ(found[i], static_cast<std::uint32_t>(values[i] + 0xFFFFFFF0U)) << i << " of " << bits << " bits";
        ASSERT_EQ(found.back(), 42U) << "written past the end: " << length << " of " << bits << " bits";
      }
    }
  });
}

TEST_F(Passes, PositionsAndSumsEqualPlainLoops) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      std::vector<std::uint32_t> given;
      for (const std::uint64_t number : numbers(length, 6)) given.push_back(static_cast<std::uint32_t>(number));
      if (length > 3) given[length / 2] = 0xFFFFFFFF;
      std::vector<std::uint32_t> found(length + 17, 42);
      for (const auto& [low, high] : {std::pair(0U, 0xFFFFFFFFU), std::pair(5U, 40U), std::pair(63U, 63U),
                                      std::pair(64U, 0xFFFFFFFFU), std::pair(9U, 3U)}) {
        SCOPED_TRACE(testing::Message() << length << " numbers, those from " << low << " to " << high);
        std::vector<std::uint32_t> expected;
        for (std::uint32_t i = 0; i < length; ++i) {
          if (given[i] >= low && given[i] <= high) expected.push_back(i);
        }
        const std::size_t count = find_between(given, low, high, found.data());
        EXPECT_EQ(std::vector(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(count)), expected);
        EXPECT_EQ(found.back(), 42U) << "written past the room";
      }
      EXPECT_EQ(sum_of(given), std::accumulate(given.begin(), given.end(), std::uint64_t{0}));
      EXPECT_EQ(highest_of(given), given.empty() ? 0 : *std::max_element(given.begin(), given.end()));
    }
  });
}

TEST_F(Passes, SomeOfPackedNumbersUnpackAtEveryWidth) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (unsigned bits = 0; bits <= 32; ++bits) {
        const std::vector<std::uint64_t> values = numbers(length, bits);
        std::vector<std::uint64_t> words(words_for(length, bits));
        pack(values, 0, bits, words.data());
        for (const std::uint64_t in : {1U, 3U, 40U}) {
          std::vector<std::uint32_t> positions;
          for (std::uint32_t i = 0; i < length; ++i) {
            if (random_() % in == 0 || i + 1 == length) positions.push_back(i);
          }
          std::vector<std::uint32_t> found(positions.size() + 1, 42);
          unpack_at(words.data(), length, bits, 7, positions, found.data());
          for (std::size_t i = 0; i < positions.size(); ++i)
            ASSERT_EQ(found[i], static_cast<std::uint32_t>(values[positions[i]] + 7)) << i << " of " << bits << " bits";
          ASSERT_EQ(found.back(), 42U) << "written past the end";
        }
      }
    }
  });
}

TEST_F(Passes, SumsUpToEachNumberEqualAPlainLoop) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      std::vector<std::uint32_t> given;
      for (const std::uint64_t number : numbers(length, 32)) given.push_back(static_cast<std::uint32_t>(number));
      std::vector<std::uint32_t> expected(length);
      std::partial_sum(given.begin(), given.end(), expected.begin());
      add_up(given);
      EXPECT_EQ(given, expected) << length;
    }
  });
}

TEST_F(Passes, RunsAreFilledAndFound) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      for (const std::uint64_t longest : {1U, 2U, 7U, 100U}) {
        std::vector<std::uint64_t> firsts((length + 63) / 64);
        std::vector<std::uint32_t> of_runs;
        std::vector<std::uint32_t> expected;
        std::vector<std::uint32_t> run_of_row;
        for (std::size_t row = 0, left = 0; row < length; ++row, --left) {
          if (left == 0) {
            left = 1 + random_() % longest;
            firsts[row / 64] |= std::uint64_t{1} << row % 64;
            of_runs.push_back(static_cast<std::uint32_t>(random_()));
          }
          expected.push_back(of_runs.back());
          run_of_row.push_back(static_cast<std::uint32_t>(of_runs.size() - 1));
        }
        of_runs.resize(of_runs.size() + beyond_filled);
        std::vector<std::uint32_t> filled(length);
        fill_runs(firsts.data(), length, of_runs.data(), filled.data());
        EXPECT_EQ(filled, expected) << length << " rows, runs up to " << longest;
        std::vector<std::uint32_t> rows;
        for (std::uint32_t row = 0; row < length; ++row) {
          if (random_() % 3 == 0) rows.push_back(row);
        }
        // A bit for each run, and what it makes of the rows.
        const std::vector<std::uint64_t> of_run = numbers(of_runs.size(), 64);
        std::vector<std::uint64_t> filled_bits((length + 63) / 64, 42);
        fill_run_bits(firsts.data(), length, of_run.data(), filled_bits.data());
        std::vector<std::uint32_t> set;
        for (std::uint32_t row = 0; row < length; ++row) {
          const std::uint32_t run = run_of_row[row];
          const bool holds = (of_run[run / 64] >> run % 64 & 1) != 0;
          ASSERT_EQ(filled_bits[row / 64] >> row % 64 & 1, holds ? 1U : 0U) << row << " of " << length;
          if (holds) set.push_back(row);
        }
        if (length % 64 != 0) {
          EXPECT_EQ(filled_bits.back() >> length % 64, 0U);
        }
        std::vector<std::uint32_t> positions(length + 17, 42);
        const std::size_t count = find_set(filled_bits.data(), length, positions.data());
        EXPECT_EQ(std::vector(positions.begin(), positions.begin() + static_cast<std::ptrdiff_t>(count)), set);
        EXPECT_EQ(positions.back(), 42U) << "written past the room";
        std::vector<std::uint32_t> found(rows.size());
        find_runs(firsts.data(), rows, found.data());
        for (std::size_t i = 0; i < rows.size(); ++i) EXPECT_EQ(found[i], run_of_row[rows[i]]) << rows[i];
      }
    }
  });
}

TEST_F(Passes, RowsAreComparedByTwoCodes) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      std::vector<std::uint32_t> a;
      std::vector<std::uint32_t> b;
      for (const std::uint64_t number : numbers(length, 4)) a.push_back(static_cast<std::uint32_t>(number));
      for (const std::uint64_t number : numbers(length, 4)) b.push_back(static_cast<std::uint32_t>(number));
      for (const std::int32_t shift : {0, 5, -5, 1 << 30, -(1 << 30)}) {
        for (unsigned asked = 0; asked < 8; ++asked) {
          const Compared how{shift, 3, 7, (asked & 1) != 0, (asked & 2) != 0, (asked & 4) != 0};
          std::vector<std::uint32_t> expected;
          for (std::uint32_t i = 0; i < length; ++i) {
            const std::int64_t left = std::int64_t{a[i]} + shift;
            const std::int64_t right = b[i];
            const bool passes = left < right ? how.less : (left == right ? how.equal : how.greater);
            if (passes && a[i] != how.null_a && b[i] != how.null_b) expected.push_back(i);
          }
          std::vector<std::uint32_t> found(length + 17, 42);
          const std::size_t count = find_compared(a, b.data(), how, found.data());
          EXPECT_EQ(std::vector(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(count)), expected);
          EXPECT_EQ(found.back(), 42U) << "written past the room";
        }
      }
    }
  });
}

TEST_F(Passes, TextsAreFoundAsTheStandardLibraryFindsThem) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      std::string text;
      for (const std::uint64_t number : numbers(length, 2)) text += static_cast<char>('a' + number);
      for (std::size_t size = 0; size < 6; ++size) {
        std::string part;
        for (const std::uint64_t number : numbers(size, 2)) part += static_cast<char>('a' + number);
        for (std::size_t from = 0; from <= length + 1; from += 1 + from / 3)
          EXPECT_EQ(find_text(text, part, from), text.find(part, from)) << part << " in " << text << " from " << from;
      }
    }
  });
}

TEST_F(Passes, NumbersAreTestedByTheirBits) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths_) {
      std::vector<std::uint32_t> given;
      for (const std::uint64_t number : numbers(length, 10)) given.push_back(static_cast<std::uint32_t>(number));
      std::vector<std::uint32_t> words;
      for (const std::uint64_t word : numbers(32, 32)) words.push_back(static_cast<std::uint32_t>(word));
      std::vector<std::uint64_t> bits((length + 63) / 64, 42);
      test_in(given, words.data(), bits.data());
      for (std::size_t i = 0; i < length; ++i)
        ASSERT_EQ(bits[i / 64] >> i % 64 & 1, words[given[i] / 32] >> given[i] % 32 & 1) << i << " of " << length;
      if (length % 64 != 0) {
        EXPECT_EQ(bits.back() >> length % 64, 0U);
      }
    }
  });
}

TEST_F(Passes, SetBitsAreCounted) {
  test::at_every_level([&] {
    for (std::size_t length = 0; length <= 40; ++length) {
      for (const unsigned bits : {0U, 1U, 33U, 64U}) {
        const auto given = numbers(length, bits);
        std::size_t expected = 0;
        for (std::uint64_t word : given) {
          for (; word != 0; word >>= 1) expected += word & 1;
        }
        EXPECT_EQ(count_ones(given), expected) << length << " words of " << bits << " bits";
      }
    }
  });
}

TEST_F(Passes, EntriesOfPackedTablesAreLookedUpAtEveryWidth) {
  test::at_every_level([&] {
    for (unsigned bits = 0; bits <= 32; ++bits) {
      constexpr std::size_t size = 1000;
      std::vector<std::uint32_t> entries;
      for (const std::uint64_t number : numbers(size, bits)) entries.push_back(static_cast<std::uint32_t>(number));
      PackedTable table(size, bits);
      // In two parts, the bits of each entry one after the other.
      constexpr std::size_t half = 15 * PackedTable::entries_apart;
      std::vector<std::uint32_t> odd(entries);
      for (std::uint32_t& number : odd) number &= 0x55555555;
      table.add(0, std::span<const std::uint32_t>(odd).first(half), 0);
      table.add(half, std::span<const std::uint32_t>(odd).subspan(half), 0);
      for (std::size_t code = 0; code < size; ++code) table.add(code, entries[code] & 0xAAAAAAAA);
      for (std::size_t code = 0; code < size; ++code) ASSERT_EQ(table[code], entries[code]) << bits << " bits";
      for (const std::size_t length : lengths_) {
        std::vector<std::uint32_t> codes;
        for (const std::uint64_t number : numbers(length, 32))
          codes.push_back(static_cast<std::uint32_t>(number % size));
        const unsigned shift = bits == 32 ? 0 : static_cast<unsigned>(random_() % (32 - bits));
        std::vector<std::uint32_t> found(length + 1, 42);
        table.look_up(codes, shift, found.data());
        for (std::size_t i = 0; i < length; ++i) ASSERT_EQ(found[i], entries[codes[i]] << shift) << bits << " bits";
        ASSERT_EQ(found.back(), 42U) << "written past the end";
        std::vector<std::uint32_t> added(length + 1, 1);
        table.add_looked_up(codes, shift, added.data());
        for (std::size_t i = 0; i < length; ++i)
          ASSERT_EQ(added[i], (entries[codes[i]] << shift | 1)) << bits << " bits";
        ASSERT_EQ(added.back(), 1U) << "written past the end";
        if (bits > 1) continue;
        std::vector<std::uint32_t> positions(length + 17, 42);
        const std::size_t count = find_in(codes, table.words().data(), positions.data());
        std::vector<std::uint32_t> expected;
        for (std::uint32_t i = 0; i < length; ++i) {
          if (entries[codes[i]] != 0) expected.push_back(i);
        }
        ASSERT_EQ(std::vector(positions.begin(), positions.begin() + static_cast<std::ptrdiff_t>(count)), expected);
        ASSERT_EQ(positions.back(), 42U) << "written past the room";
      }
    }
  });
}

TEST_F(Passes, SortedNumbersAreInOrder) {
  for (const std::size_t length : {0, 1, 2, 1000, 1023, 1024, 1025, 70'000}) {
    for (const unsigned bits : {1U, 20U, 64U}) {
      std::vector<std::uint64_t> single = numbers(length, bits);
      std::vector<uint128> twice;
      for (const std::uint64_t number : single) twice.push_back(static_cast<uint128>(number) << 64 | random_());
      auto expected = single;
      auto expected_twice = twice;
      std::sort(expected.begin(), expected.end());
      std::sort(expected_twice.begin(), expected_twice.end());
      sort_numbers(single);
      sort_numbers(twice);
      EXPECT_EQ(single, expected);
      EXPECT_TRUE(twice == expected_twice);
    }
  }
}

}  // namespace
}  // namespace juniper::base::passes_test
