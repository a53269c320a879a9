// Vectors and tables that become large.
#include "base/growing_vector.h"

#include <gtest/gtest.h>

#include <cstdint>
#include <numeric>

#include "base/zeroed_table.h"

namespace juniper::base::growing_vector_test {
namespace {

constexpr std::size_t large = least_mapped_bytes / sizeof(std::uint32_t);

TEST(GrowingVector, KeepsItsNumbersWhileItGrows) {
  const std::uint64_t mapped_before = mapped_bytes();
  {
    GrowingVector<std::uint32_t> numbers;
    for (std::uint32_t i = 0; i < 10 * large; ++i) numbers.push_back(i);
    ASSERT_EQ(numbers.size(), 10 * large);
    EXPECT_GE(mapped_bytes() - mapped_before, 10 * least_mapped_bytes);
    std::uint32_t expected = 0;
    for (const std::uint32_t number : numbers) ASSERT_EQ(number, expected++);
  }
  EXPECT_EQ(mapped_bytes(), mapped_before);
}

TEST(GrowingVector, FillsWhatIsNew) {
  for (const std::size_t size :
       {std::size_t{0}, std::size_t{1}, large / 4, large / 4 + 1, large - 1, large, 3 * large}) {
    GrowingVector<std::uint32_t> numbers;
    numbers.resize(size / 2, 7);
    numbers.resize(size, 9);
    numbers.resize(size + 1);
    ASSERT_EQ(numbers.size(), size + 1);
    for (std::size_t i = 0; i <= size; ++i) ASSERT_EQ(numbers[i], i < size / 2 ? 7U : (i < size ? 9U : 0U)) << i;
    // What was cut off does not come back.
    numbers.resize(size / 2);
    numbers.resize(size, 5);
    for (std::size_t i = 0; i < size; ++i) ASSERT_EQ(numbers[i], i < size / 2 ? 7U : 5U) << i;
  }
}

TEST(GrowingVector, CanBeMoved) {
  for (const std::size_t size : {std::size_t{3}, 2 * large}) {
    GrowingVector<std::uint32_t> from;
    from.resize(size, 4);
    GrowingVector<std::uint32_t> to(std::move(from));
    GrowingVector<std::uint32_t> other;
    other.resize(5, 1);
    other = std::move(to);
    ASSERT_EQ(other.size(), size);
    EXPECT_EQ(std::accumulate(other.begin(), other.end(), std::uint64_t{0}), 4 * size);
  }
}

TEST(ZeroedTable, BeginsWithZeros) {
  const std::uint64_t mapped_before = mapped_bytes();
  for (const std::size_t size : {std::size_t{1}, large - 1, large, 5 * large}) {
    const ZeroedTable<std::uint32_t> table(size);
    ASSERT_FALSE(table.empty());
    for (std::size_t i = 0; i < size; ++i) {
      ASSERT_EQ(table[i], 0U) << i;
      table[i] = 1;
    }
  }
  EXPECT_TRUE(ZeroedTable<std::uint32_t>().empty());
  EXPECT_EQ(mapped_bytes(), mapped_before);
}

}  // namespace
}  // namespace juniper::base::growing_vector_test
