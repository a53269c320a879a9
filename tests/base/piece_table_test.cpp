// Tables in pieces look up what the plain ones do, with each set of instructions.
#include "base/piece_table.h"

#include <gtest/gtest.h>

#include <random>

namespace juniper::piece_table_test {
namespace {

// Numbers of `bits` that change every `least` to `most` codes.
std::vector<std::uint32_t> drawn(std::mt19937_64& random, std::size_t size, unsigned bits, std::size_t least,
                                 std::size_t most) {
  std::vector<std::uint32_t> numbers;
  while (numbers.size() < size) {
    const std::size_t count = least + random() % (most - least + 1);
    numbers.insert(numbers.end(), count, static_cast<std::uint32_t>(random() % (1U << bits)));
  }
  numbers.resize(size);
  return numbers;
}

TEST(PieceTable, LooksUpWhatThePlainTableDoes) {
  std::mt19937_64 random(5);
  std::size_t made = 0;
  for (int round = 0; round < 300; ++round) {
    const std::size_t size = 20'000 + random() % 100'000;
    const unsigned bits = 1 + static_cast<unsigned>(random() % 11);
    const std::size_t least = std::size_t{1} << random() % 14;
    const auto numbers = drawn(random, size, bits, least, least * (1 + random() % 3));
    base::PackedTable table(size, bits);
    table.add(0, std::span<const std::uint32_t>(numbers), 0);
    const auto pieces = base::PieceTable::of(table);
    if (!pieces) continue;
    ++made;
    std::vector<std::uint32_t> codes(1 + random() % 5000);
    for (std::uint32_t& code : codes) code = static_cast<std::uint32_t>(random() % size);
    codes[0] = static_cast<std::uint32_t>(size - 1);
    const auto shift = static_cast<unsigned>(random() % 20);
    std::vector<std::uint32_t> out(codes.size());
    pieces->look_up(codes, shift, out.data());
    for (std::size_t i = 0; i < codes.size(); ++i) ASSERT_EQ(out[i], numbers[codes[i]] << shift) << round;
    std::fill(out.begin(), out.end(), 1U << 31);
    pieces->add_looked_up(codes, shift, out.data());
    for (std::size_t i = 0; i < codes.size(); ++i) ASSERT_EQ(out[i], (numbers[codes[i]] << shift) | 1U << 31) << round;
  }
  EXPECT_GT(made, 60U);
}

TEST(PieceTable, IsNotMadeWhereItDoesNotPay) {
  std::mt19937_64 random(6);
  const auto table_of = [](const std::vector<std::uint32_t>& numbers, unsigned bits) {
    base::PackedTable table(numbers.size(), bits);
    table.add(0, std::span<const std::uint32_t>(numbers), 0);
    return base::PieceTable::of(table).has_value();
  };
  EXPECT_TRUE(table_of(drawn(random, 100'000, 6, 1000, 1000), 6));
  EXPECT_FALSE(table_of(drawn(random, 100'000, 6, 1, 1), 6));          // changes from code to code
  EXPECT_FALSE(table_of(drawn(random, 100'000, 16, 1000, 1000), 16));  // large numbers
  EXPECT_FALSE(table_of(drawn(random, 10'000, 6, 1000, 1000), 6));     // small enough as it is
}

}  // namespace
}  // namespace juniper::piece_table_test
