#include "store/codes.h"

#include <gtest/gtest.h>

#include <functional>
#include <random>
#include <set>

#include "store/column.h"
#include "support/support.h"

namespace juniper::store {
namespace {

void expect_same(const std::vector<std::uint64_t>& values, const std::string& what) {
  const Codes codes = Codes::encode(values);
  ASSERT_EQ(codes.size(), values.size());
  const std::uint64_t largest = values.empty() ? 0 : *std::max_element(values.begin(), values.end());
  ASSERT_TRUE(codes.is_well_formed(largest)) << what;
  EXPECT_EQ(codes.is_well_formed(largest - 1), largest == 0) << what;
  std::vector<std::uint64_t> block(block_rows);
  for (std::size_t b = 0; b < codes.blocks(); ++b) {
    codes.decode_block(b, block.data());
    for (std::size_t i = 0; i < codes.rows_in_block(b); ++i) {
      ASSERT_EQ(block[i], values[b * block_rows + i]) << what << " row " << b * block_rows + i;
      ASSERT_EQ(codes.at(b * block_rows + i), values[b * block_rows + i]) << what;
    }
  }
}

// Every width of numbers, at lengths around the border of a block.
TEST(Codes, EveryWidthAndLengthIsReadBack) {
  std::mt19937_64 random(test::test_seed(5));
  for (unsigned bits = 0; bits <= 64; ++bits) {
    for (const std::size_t length : {0U, 1U, 2U, 63U, 64U, 65U, 4095U, 4096U, 4097U, 9000U}) {
      std::vector<std::uint64_t> values(length);
      const std::uint64_t mask = bits == 64 ? ~0ULL : (1ULL << bits) - 1;
      const std::uint64_t base = bits < 60 ? random() >> 5 : 0;
      for (auto& v : values) v = base + (random() & mask);
      expect_same(values, std::to_string(bits) + " bits, " + std::to_string(length));
    }
  }
}

TEST(Codes, RunsAndConstantsAreReadBackAndSmall) {
  std::mt19937_64 random(test::test_seed(6));
  for (const std::uint64_t longest : {2U, 10U, 100U, 5000U}) {
    std::vector<std::uint64_t> values;
    while (values.size() < 20000) values.insert(values.end(), 1 + random() % longest, random() % 1000);
    expect_same(values, "runs up to " + std::to_string(longest));
  }
  const Codes constant = Codes::encode(std::vector<std::uint64_t>(1'000'000, 42));
  EXPECT_LT(constant.bytes().size(), 5000U);
  EXPECT_EQ(constant.describe(), "constant");
  std::vector<std::uint64_t> sorted(100'000);
  for (std::size_t i = 0; i < sorted.size(); ++i) sorted[i] = i / 1000;
  EXPECT_EQ(Codes::encode(sorted).describe(), "runs");
  EXPECT_EQ(Codes::encode({}).describe(), "empty");
}

source::ColumnInput input_of(Type type, std::size_t rows) {
  source::ColumnInput input;
  input.type = type;
  input.is_null.resize(rows);
  return input;
}

TEST(Column, ExactValuesOfAllShapesAreReadBack) {
  std::mt19937_64 random(test::test_seed(8));
  constexpr std::int64_t low = std::numeric_limits<std::int64_t>::min();
  constexpr std::int64_t high = std::numeric_limits<std::int64_t>::max();
  const std::vector<std::function<std::int64_t()>> shapes{
      [&] { return static_cast<std::int64_t>(random() % 7); },
      [&] { return -1000 + static_cast<std::int64_t>(random() % 3); },
      [&] { return static_cast<std::int64_t>(random()); },
      [&] { return random() % 2 == 0 ? low : high; },
      [&] { return high; },
      [&] { return static_cast<std::int64_t>(random() % 5) * 1'000'000'000'000; }};
  for (const auto& shape : shapes) {
    for (const unsigned null_in : {0U, 2U, 1U}) {
      source::ColumnInput input = input_of({TypeKind::integer, 0}, 6000);
      for (auto& null : input.is_null) {
        null = null_in != 0 && random() % null_in == 0 ? 1 : 0;
        input.exact.push_back(shape());
      }
      const Column column = encode_column(input);
      ASSERT_TRUE(column.is_well_formed());
      std::set<std::int64_t> distinct;
      for (std::size_t i = 0; i < input.exact.size(); ++i) {
        const Value expected = input.is_null[i] != 0 ? Value() : Value::of(static_cast<int128>(input.exact[i]));
        ASSERT_EQ(column.at(i), expected);
        if (input.is_null[i] == 0) distinct.insert(input.exact[i]);
      }
      EXPECT_EQ(column.distinct, distinct.size());
      EXPECT_EQ(column.min(), distinct.empty() ? Value() : Value::of(static_cast<int128>(*distinct.begin())));
      EXPECT_EQ(column.max(), distinct.empty() ? Value() : Value::of(static_cast<int128>(*distinct.rbegin())));
    }
  }
}

TEST(Column, RealsAreReadBackToTheBit) {
  std::mt19937_64 random(test::test_seed(9));
  for (const std::uint64_t kinds : {5U, 1'000'000U}) {
    source::ColumnInput input = input_of({TypeKind::real, 0}, 5000);
    for (auto& null : input.is_null) {
      null = random() % 9 == 0 ? 1 : 0;
      input.real.push_back(static_cast<double>(random() % kinds) / 7 - 3);
    }
    const Column column = encode_column(input);
    EXPECT_EQ(column.has_dictionary(), kinds == 5);
    ASSERT_TRUE(column.is_well_formed());
    for (std::size_t i = 0; i < input.real.size(); ++i)
      ASSERT_EQ(column.at(i), input.is_null[i] != 0 ? Value() : Value::of(input.real[i]));
    EXPECT_LE(compare(column.min(), column.max()), 0);
  }
}

TEST(Column, TextsHaveASortedDictionaryOfWhatIsUsed) {
  source::ColumnInput input = input_of({TypeKind::text, 0}, 5);
  input.texts = {"pear", "", "unused", "äpfel", "apple"};
  input.text = {0, 1, 3, 4, 0};
  input.is_null[4] = 1;
  const Column column = encode_column(input);
  ASSERT_TRUE(column.is_well_formed());
  EXPECT_EQ(column.distinct, 4U);
  EXPECT_EQ(column.text_of(0), "");
  EXPECT_EQ(column.text_of(1), "apple");
  EXPECT_EQ(column.text_of(3), "äpfel");
  EXPECT_EQ(column.at(0).text(), "pear");
  EXPECT_TRUE(column.at(4).is_null());
  EXPECT_EQ(column.max().text(), "äpfel");
}

TEST(Column, ADictionaryIsUsedWhereItPays) {
  source::ColumnInput input = input_of({TypeKind::integer, 0}, 10'000);
  for (std::size_t i = 0; i < 10'000; ++i) input.exact.push_back(static_cast<std::int64_t>(i % 4) * 1'000'000'007);
  EXPECT_TRUE(encode_column(input).has_dictionary());
  for (std::size_t i = 0; i < 10'000; ++i) input.exact[i] = static_cast<std::int64_t>(i);
  EXPECT_FALSE(encode_column(input).has_dictionary());
}

}  // namespace
}  // namespace juniper::store
