// Sorting of plain numbers, beside the standard library's.
#include "base/sort.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <numeric>
#include <random>

namespace juniper::base::sort_test {
namespace {

// Around the count from which the processor's widest instructions are used.
constexpr std::size_t counts[] = {0, 1, 2, 3, 100, 1023, 1024, 1025, 5000};

TEST(Sort, NumbersAscend) {
  std::mt19937_64 random(3);
  for (const std::size_t count : counts) {
    std::vector<std::uint64_t> narrow(count);
    for (auto& number : narrow) number = random();
    std::vector<uint128> wide(count);
    for (auto& number : wide) number = uint128{random()} << 64 | random() % 3;
    auto expected = narrow;
    auto expected_wide = wide;
    std::sort(expected.begin(), expected.end());
    std::sort(expected_wide.begin(), expected_wide.end());
    sort_numbers(narrow);
    sort_numbers(wide);
    EXPECT_EQ(narrow, expected) << count;
    EXPECT_TRUE(wide == expected_wide) << count;
  }
}

TEST(Sort, NumbersByKeyAreThoseOfAStableSort) {
  std::mt19937_64 random(4);
  for (const std::size_t count : counts) {
    for (const unsigned bits : {0U, 1U, 7U, 11U, 14U, 31U, 32U, 40U, 52U, 53U, 63U, 64U, 96U}) {
      SCOPED_TRACE(testing::Message() << count << " numbers, keys of " << bits << " bits");
      std::vector<uint128> keys(count);
      for (auto& key : keys) key = (uint128{random()} << 64 | random()) & ((uint128{1} << bits) - 1);
      std::vector<std::uint32_t> expected(count);
      std::iota(expected.begin(), expected.end(), 0U);
      std::stable_sort(expected.begin(), expected.end(), [&](auto a, auto b) { return keys[a] < keys[b]; });
      EXPECT_EQ(numbers_by_key(count, bits, [&](std::uint32_t i) { return keys[i]; }), expected);
    }
  }
}

}  // namespace
}  // namespace juniper::base::sort_test
