#include "store/codes.h"

#include <gtest/gtest.h>

#include <bit>
#include <cmath>
#include <functional>
#include <random>
#include <set>

#include "base/failure.h"
#include "store/column.h"
#include "support/support.h"

namespace juniper::store {
namespace {

void expect_same(const std::vector<std::uint64_t>& values, const std::string& what) {
  const Codes codes = Codes::encode(values);
  ASSERT_EQ(codes.size(), values.size());
  const std::uint64_t largest = values.empty() ? 0 : *std::max_element(values.begin(), values.end());
  // As a file's, it passes when no code is beyond the largest, and not otherwise.
  const auto viewed = Codes::view(codes.bytes(), codes.size(), largest, codes.directory_hash(), "x");
  ASSERT_TRUE(viewed) << what;
  EXPECT_NO_THROW(viewed->verify()) << what;
  if (largest > 0) {
    const auto narrower = Codes::view(codes.bytes(), codes.size(), largest - 1, codes.directory_hash(), "x");
    EXPECT_THROW(narrower->verify(), base::Failure) << what;
  }
  EXPECT_EQ(viewed->decoded(), values) << what;
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
  EXPECT_LT(constant.bytes().size(), 8000U);
  EXPECT_EQ(constant.describe(), "constant");
  std::vector<std::uint64_t> sorted(100'000);
  for (std::size_t i = 0; i < sorted.size(); ++i) sorted[i] = i / 1000;
  EXPECT_EQ(Codes::encode(sorted).describe(), "runs");
  EXPECT_EQ(Codes::encode({}).describe(), "empty");
}

// What climbs, with steps of any width, and what has one code in most rows: small whatever the codes' own width.
TEST(Codes, DeltasAndFrequentCodesAreReadBackAndSmall) {
  std::mt19937_64 random(test::test_seed(7));
  for (const std::size_t length : {2U, 127U, 128U, 129U, 4095U, 4096U, 20000U}) {
    for (unsigned bits = 0; bits < 60; bits += 7) {
      std::vector<std::uint64_t> climbing(length);
      std::uint64_t at = random() >> 8;
      for (auto& v : climbing) v = at += (random() & ((1ULL << bits) - 1)) - (bits == 14 ? 1ULL << 13 : 0);
      expect_same(climbing, std::to_string(bits) + " bits of difference, " + std::to_string(length));
    }
    for (const unsigned others_in : {3U, 10U, 1000U}) {
      std::vector<std::uint64_t> frequent(length, 77);
      for (auto& v : frequent) v = random() % others_in == 0 ? random() >> 10 : v;
      expect_same(frequent, "one other in " + std::to_string(others_in) + ", " + std::to_string(length));
    }
  }
  std::vector<std::uint64_t> ids(100'000);
  for (std::size_t i = 0; i < ids.size(); ++i) ids[i] = 7 * i + i % 3;
  EXPECT_EQ(Codes::encode(ids).describe(), "delta");
  EXPECT_LT(Codes::encode(ids).bytes().size(), ids.size() / 2);
  for (auto& id : ids) id = random() % 4 == 0 ? random() : 5;
  EXPECT_EQ(Codes::encode(ids).describe(), "frequent");
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
      [&] { return static_cast<std::int64_t>(random() % 5) * 1'000'000'000'000; },
      [&] { return static_cast<std::int64_t>(random() % 9 * (random() % 9)) * 999'999'999'989; },
      [&] { return static_cast<std::int64_t>(1ULL << random() % 60); },
      [&, at = std::int64_t{-5000}]() mutable { return at += static_cast<std::int64_t>(random() % 4) * 60; }};
  for (const auto& shape : shapes) {
    for (const unsigned null_in : {0U, 2U, 1U}) {
      source::ColumnInput input = input_of({TypeKind::integer, 0}, 6000);
      for (auto& null : input.is_null) {
        null = null_in != 0 && random() % null_in == 0 ? 1 : 0;
        input.exact.push_back(shape());
      }
      const Column column = encode_column(input);
      std::set<std::int64_t> distinct;
      for (std::size_t i = 0; i < input.exact.size(); ++i) {
        const Value expected = input.is_null[i] != 0 ? Value() : Value::of(static_cast<int128>(input.exact[i]));
        ASSERT_EQ(column.at(i), expected);
        if (input.is_null[i] == 0) distinct.insert(input.exact[i]);
      }
      EXPECT_EQ(column.distinct, distinct.size());
      EXPECT_EQ(column.least, distinct.empty() ? Value() : Value::of(static_cast<int128>(*distinct.begin())));
      EXPECT_EQ(column.most, distinct.empty() ? Value() : Value::of(static_cast<int128>(*distinct.rbegin())));
    }
  }
}

TEST(Column, RealsAreReadBackToTheBit) {
  std::mt19937_64 random(test::test_seed(9));
  const auto any = [&] {
    double value = std::nan("");
    while (!std::isfinite(value)) value = std::bit_cast<double>(random());
    return value;
  };
  for (const Layout layout : {Layout::dictionary, Layout::bits}) {
    source::ColumnInput input = input_of({TypeKind::real, 0}, 5000);
    for (auto& null : input.is_null) {
      null = random() % 90 == 0 ? 1 : 0;
      input.real.push_back(layout == Layout::bits ? any() : static_cast<double>(random() % 5) / 7 - 0.3);
    }
    const Column column = encode_column(input);
    EXPECT_EQ(column.layout, layout);
    for (std::size_t i = 0; i < input.real.size(); ++i)
      ASSERT_EQ(column.at(i), input.is_null[i] != 0 ? Value() : Value::of(input.real[i]));
    EXPECT_LE(compare(column.least, column.most), 0);
  }
}

TEST(Column, TextsHaveASortedDictionaryOfWhatIsUsed) {
  source::ColumnInput input = input_of({TypeKind::text, 0}, 5);
  input.texts = {"pear", "", "unused", "äpfel", "apple"};
  input.text = {0, 1, 3, 4, 0};
  input.is_null[4] = 1;
  const Column column = encode_column(input);
  EXPECT_EQ(column.distinct, 4U);
  EXPECT_EQ(column.text_of(0), "");
  EXPECT_EQ(column.text_of(1), "apple");
  EXPECT_EQ(column.text_of(3), "äpfel");
  EXPECT_EQ(column.at(0).text(), "pear");
  EXPECT_TRUE(column.at(4).is_null());
  EXPECT_EQ(column.most.text(), "äpfel");
}

TEST(Column, ADictionaryIsUsedWhereItPays) {
  source::ColumnInput input = input_of({TypeKind::integer, 0}, 10'000);
  for (std::size_t i = 0; i < 10'000; ++i) input.exact.push_back(static_cast<std::int64_t>(1ULL << i % 4 * 9));
  EXPECT_TRUE(encode_column(input).has_dictionary());
  // Equal steps need none.
  for (std::size_t i = 0; i < 10'000; ++i) input.exact[i] = static_cast<std::int64_t>(i % 4) * 1'000'000'007;
  EXPECT_FALSE(encode_column(input).has_dictionary());
  EXPECT_LT(encode_column(input).bytes(), 3000U);
  for (std::size_t i = 0; i < 10'000; ++i) input.exact[i] = static_cast<std::int64_t>(i);
  EXPECT_FALSE(encode_column(input).has_dictionary());
}

// Blocks of a dictionary, with and without anything to share, with texts that hold zeros or are long.
TEST(Column, TextsOfAllShapesAreReadBack) {
  std::mt19937_64 random(test::test_seed(10));
  const std::vector<std::function<std::string(std::size_t)>> shapes{
      [](std::size_t i) { return "station " + std::to_string(i); },
      [&](std::size_t) { return std::to_string(random()); },
      [](std::size_t i) { return std::string(i % 5, '\0') + (i % 2 == 0 ? "x" : ""); },
      [&](std::size_t i) { return i % 500 == 0 ? std::string(70'000, 'a') + std::to_string(i) : "b"; }};
  for (const auto& shape : shapes) {
    std::vector<std::string> texts;
    for (std::size_t i = 0; i < 5000; ++i) texts.push_back(shape(i));
    source::ColumnInput input = input_of({TypeKind::text, 0}, texts.size());
    input.texts.assign(texts.begin(), texts.end());
    for (std::uint32_t i = 0; i < texts.size(); ++i) input.text.push_back(i);
    for (auto& null : input.is_null) null = random() % 11 == 0 ? 1 : 0;
    const Column column = encode_column(input);
    std::set<std::string> distinct;
    for (std::size_t i = 0; i < texts.size(); ++i) {
      ASSERT_EQ(column.at(i), input.is_null[i] != 0 ? Value() : Value::of(texts[i]));
      if (input.is_null[i] == 0) distinct.insert(texts[i]);
    }
    ASSERT_EQ(column.distinct, distinct.size());
    std::uint64_t code = 0;
    for (const std::string& text : distinct) {
      ASSERT_EQ(column.text_of(code), text);
      ASSERT_EQ(column.code_of(Value::of(text)), code++);
    }
    const auto viewed = TextDictionary::view(column.texts.bytes(), column.distinct, column.texts.directory_hash(), "x");
    EXPECT_NO_THROW(viewed->verify());
    EXPECT_EQ(viewed->at(column.distinct - 1), *distinct.rbegin());
  }
}

}  // namespace
}  // namespace juniper::store
