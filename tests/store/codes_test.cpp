#include "store/codes.h"

#include <gtest/gtest.h>

#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <functional>
#include <random>
#include <set>

#include "base/failure.h"
#include "source/column_input.h"
#include "store/column.h"
#include "support/columns.h"
#include "support/support.h"

namespace juniper::store::codes_test {
namespace {

// Whatever reads a code beyond the largest one throws, read first or last, and all else is read.
void expect_none_beyond(const std::vector<std::uint64_t>& values, const Codes& codes, std::uint64_t largest,
                        const std::string& what) {
  const auto fresh = [&] { return *Codes::view(codes.bytes(), codes.size(), {largest}, codes.directory_hash(), "x"); };
  EXPECT_THROW(fresh().verify(), base::Failure) << what;
  const auto by_row = fresh();
  const auto by_block = fresh();
  std::vector<std::uint64_t> wide(block_rows);
  std::vector<std::uint32_t> narrow(block_rows);
  std::array<Codes::Run, Codes::most_runs> runs;
  for (std::size_t b = 0; b < codes.blocks(); ++b) {
    const auto block = std::span(values).subspan(b * block_rows, codes.rows_in_block(b));
    const bool beyond = std::any_of(block.begin(), block.end(), [&](std::uint64_t v) { return v > largest; });
    const auto expect = [&](const auto& read) {
      if (beyond) {
        EXPECT_THROW(read(), base::Failure) << what << " block " << b;
      } else {
        EXPECT_NO_THROW(read()) << what << " block " << b;
      }
    };
    for (const Codes& view : {fresh(), by_block}) {
      expect([&] { view.decode_block(b, wide.data()); });
      expect([&] { view.decode_block(b, narrow.data()); });
    }
    // What is told without decoding the block holds none either.
    try {
      EXPECT_LE(by_row.bounds(b).low, largest) << what;
      const std::size_t count = by_row.runs(b, runs.data());
      EXPECT_TRUE(!beyond || count == 0) << what;
    } catch (const base::Failure&) {
      EXPECT_TRUE(beyond) << what;
    }
    for (std::size_t i = 0; i < block.size(); i += 1 + block.size() / 97) {
      if (block[i] > largest) {
        EXPECT_THROW(by_row.at(b * block_rows + i), base::Failure) << what << " row " << b * block_rows + i;
      } else {
        EXPECT_EQ(by_row.at(b * block_rows + i), block[i]) << what << " row " << b * block_rows + i;
      }
    }
  }
}

// Whole blocks, and rows that are picked: all, every other one, one in five, in fifty and in a thousand.
void expect_same_in_32_bits(const Codes& codes, const std::vector<std::uint64_t>& values, const std::string& what) {
  std::mt19937_64 random(test::test_seed(9));
  std::vector<std::uint32_t> block(block_rows);
  for (std::size_t b = 0; b < codes.blocks(); ++b) {
    codes.decode_block(b, block.data());
    const auto first = values.begin() + static_cast<std::ptrdiff_t>(b * block_rows);
    ASSERT_TRUE(std::equal(first, first + static_cast<std::ptrdiff_t>(codes.rows_in_block(b)), block.begin())) << what;
    for (const std::uint64_t in : {1U, 2U, 5U, 50U, 1000U}) {
      std::vector<std::uint32_t> rows;
      for (std::uint32_t i = 0; i < codes.rows_in_block(b); ++i) {
        if (random() % in == 0) rows.push_back(i);
      }
      std::vector<std::uint32_t> picked(rows.size() + 1, 42);
      codes.decode_rows(b, rows, picked.data());
      for (std::size_t i = 0; i < rows.size(); ++i)
        ASSERT_EQ(picked[i], first[rows[i]]) << what << " row " << rows[i] << " of block " << b << ", one in " << in;
      ASSERT_EQ(picked.back(), 42U) << what;
    }
  }
}

void expect_same(const std::vector<std::uint64_t>& values, const std::string& what) {
  const Codes codes = Codes::encode(values);
  ASSERT_EQ(codes.size(), values.size());
  const std::uint64_t largest = values.empty() ? 0 : *std::max_element(values.begin(), values.end());
  // As a file's, it passes when no code is beyond the largest, and not otherwise.
  const auto viewed = Codes::view(codes.bytes(), codes.size(), {largest}, codes.directory_hash(), "x");
  ASSERT_TRUE(viewed) << what;
  EXPECT_NO_THROW(viewed->verify()) << what;
  if (largest > 0) expect_none_beyond(values, codes, largest - 1, what);
  EXPECT_EQ(viewed->decoded(), values) << what;
  std::vector<std::uint64_t> block(block_rows);
  for (std::size_t b = 0; b < codes.blocks(); ++b) {
    codes.decode_block(b, block.data());
    const Codes::Bounds bounds = codes.bounds(b);
    for (std::size_t i = 0; i < codes.rows_in_block(b); ++i) {
      ASSERT_LE(bounds.low, block[i]) << what << " row " << b * block_rows + i;
      ASSERT_LE(block[i], bounds.high) << what << " row " << b * block_rows + i;
      ASSERT_EQ(block[i], values[b * block_rows + i]) << what << " row " << b * block_rows + i;
      ASSERT_EQ(codes.at(b * block_rows + i), values[b * block_rows + i]) << what;
    }
  }
  if (largest <= 0xFFFFFFFF) expect_same_in_32_bits(*viewed, values, what);
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
  // An order's lines: a bit for each row, and a code for each run.
  std::vector<std::uint64_t> lines;
  while (lines.size() < 100'000) lines.insert(lines.end(), 1 + random() % 7, random() % 2048);
  EXPECT_EQ(Codes::encode(lines).describe(), "short runs");
  EXPECT_LT(Codes::encode(lines).bytes().size() * 8, lines.size() * 4);
}

// The numbers of an order's lines, regular readings of a meter after the other, orders with their lines in order: runs
// that climb by a step, and runs whose codes climb, of all lengths and widths.
TEST(Codes, RunsThatClimbAreReadBackAndSmall) {
  std::mt19937_64 random(test::test_seed(10));
  for (const std::size_t length : {2U, 63U, 129U, 4096U, 4097U, 20'000U}) {
    for (unsigned bits = 0; bits < 60; bits += 5) {
      const std::uint64_t mask = (std::uint64_t{1} << bits) - 1;
      const std::uint64_t longest = 1 + random() % (random() % 2 == 0 ? 9 : 300);
      const std::uint64_t step = 1 + (random() & mask) / 512;
      std::vector<std::uint64_t> stepped;
      std::vector<std::uint64_t> climbing;
      std::uint64_t climbed = random() & mask;
      while (stepped.size() < length) {
        const std::uint64_t start = random() & mask;
        const std::uint64_t rows = 1 + random() % longest;
        climbed += 1 + (random() & mask) / 64 - (bits == 20 ? 1000 : 0);
        for (std::uint64_t i = 0; i < rows && stepped.size() < length; ++i) {
          stepped.push_back(start + i * step);
          climbing.push_back(climbed);
        }
      }
      expect_same(stepped, "runs with a step, " + std::to_string(bits) + " bits, " + std::to_string(length));
      expect_same(climbing, "runs that climb, " + std::to_string(bits) + " bits, " + std::to_string(length));
    }
  }
  std::vector<std::uint64_t> orders;
  std::vector<std::uint64_t> lines;
  for (std::uint64_t order = 1; orders.size() < 100'000; order += random() % 4 == 0 ? 25 : 1) {
    for (std::uint64_t line = 1 + random() % 7; line > 0; --line) orders.push_back(order);
    while (lines.size() < orders.size())
      lines.push_back(lines.empty() || orders[lines.size()] != orders[lines.size() - 1] ? 1 : lines.back() + 1);
  }
  EXPECT_EQ(Codes::encode(orders).describe(), "delta runs");
  EXPECT_LT(Codes::encode(orders).bytes().size() * 8, orders.size() * 5 / 2);
  EXPECT_EQ(Codes::encode(lines).describe(), "short runs");
  EXPECT_LT(Codes::encode(lines).bytes().size() * 8, lines.size() * 11 / 10);
}

// What a block says of its longest run bounds its codes, and so is held against its bits.
TEST(Codes, ALongestRunThatIsNoneIsDamage) {
  std::vector<std::uint64_t> lines;
  for (std::uint64_t i = 0; i < 3000; ++i) lines.push_back(i % 7 + (i == 2100 ? 3 : 0));
  const Codes codes = Codes::encode(lines);
  std::vector<std::uint64_t> words(codes.bytes().size() / 8);
  std::memcpy(words.data(), codes.bytes().view().data(), codes.bytes().size());
  const std::uint64_t longest = words[0] >> 48;
  EXPECT_EQ(longest, 7U);
  for (const std::uint64_t said : {std::uint64_t{0}, longest - 1, longest, longest + 1}) {
    words[0] = (words[0] & 0xFFFF'FFFF'FFFF) | said << 48;
    const Bytes bytes(std::vector<std::uint64_t>{words});
    const auto viewed = Codes::view(bytes, lines.size(), {9}, hash_bytes(bytes.view().first(32)), "x");
    ASSERT_TRUE(viewed);
    if (said == longest) {
      EXPECT_EQ(viewed->decoded(), lines);
    } else {
      EXPECT_THROW(viewed->verify(), base::Failure) << said;
    }
  }
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
  // What is sorted lies close together, which is told without decoding it; also where it falls, or ends with the last
  // of all numbers.
  const auto expect_close = [](const std::vector<std::uint64_t>& values) {
    expect_same(values, "sorted");
    const Codes codes = Codes::encode(values);
    ASSERT_EQ(codes.describe(), "delta");
    for (std::size_t b = 0; b < codes.blocks(); ++b) {
      const Codes::Bounds bounds = codes.bounds(b);
      if (bounds.low != 0 || bounds.high != ~std::uint64_t{0}) {
        EXPECT_LT(bounds.high - bounds.low, 3 * 9 * block_rows) << b;
      } else {
        EXPECT_TRUE(b == 0 || b + 1 == codes.blocks()) << b;
      }
    }
  };
  expect_close(ids);
  for (auto& id : ids) id = 800'000 - id;
  expect_close(ids);
  for (auto& id : ids) id = ~id;
  expect_close(ids);
  for (auto& id : ids) id = random() % 4 == 0 ? random() : 5;
  EXPECT_EQ(Codes::encode(ids).describe(), "frequent");
}

Value exact(std::int64_t value) {
  return Value::of(static_cast<int128>(value));
}

// Encodes values, in pieces of several sizes, and reads them back; gives the column.
Column expect_read_back(Type type, const std::vector<Value>& values) {
  Column column;
  for (const std::size_t piece_rows : {7U, 1000U, 4096U, 100'000U}) {
    column = encode_column(test::column_input(type, values, piece_rows));
    std::set<Value, decltype([](const Value& a, const Value& b) { return compare(a, b) < 0; })> distinct;
    std::uint64_t nulls = 0;
    for (std::size_t i = 0; i < values.size(); ++i) {
      EXPECT_EQ(column.at(i), values[i]) << "row " << i << " in pieces of " << piece_rows;
      if (column.at(i) != values[i]) return column;
      if (values[i].is_null())
        ++nulls;
      else
        distinct.insert(values[i]);
    }
    EXPECT_EQ(column.rows, values.size());
    EXPECT_EQ(column.nulls, nulls);
    EXPECT_EQ(column.distinct, distinct.size());
    EXPECT_EQ(column.least, distinct.empty() ? Value() : *distinct.begin());
    EXPECT_EQ(column.most, distinct.empty() ? Value() : *distinct.rbegin());
    if (column.layout == Layout::bits) continue;
    // Codes are ordered as the values are, and each value has one.
    std::uint64_t before = 0;
    for (const Value& value : distinct) {
      const auto code = column.code_of(value);
      EXPECT_TRUE(code && *code >= before && column.value_of(*code) == value);
      EXPECT_EQ(column.codes_before(value), code.value_or(0));
      before = code.value_or(0) + 1;
    }
  }
  return column;
}

TEST(Column, ExactValuesOfAllShapesAreReadBack) {
  std::mt19937_64 random(test::test_seed(8));
  constexpr std::int64_t low = std::numeric_limits<std::int64_t>::min();
  constexpr std::int64_t high = std::numeric_limits<std::int64_t>::max();
  const auto below = [&](std::uint64_t bound) { return static_cast<std::int64_t>(random() % bound); };
  const std::vector<std::function<std::int64_t()>> shapes{
      [&] { return below(7); },
      [&] { return -1000 + below(3); },
      [&] { return static_cast<std::int64_t>(random()); },
      [&] { return random() % 2 == 0 ? low : high; },
      [&] { return high; },
      [&] { return below(5) * 1'000'000'000'000; },
      [&] { return below(9) * below(9) * 999'999'999'989; },
      [&] { return std::int64_t{1} << below(60); },
      [&, at = std::int64_t{-5000}]() mutable { return at += below(4) * 60; },
      [&, at = low]() mutable { return at += std::int64_t{1} << below(50); },
      [&, at = std::int64_t{0}]() mutable { return at++ / 2000 % 2 == 0 ? 5 : below(100) * 7; }};
  for (const auto& shape : shapes) {
    for (const Type type : {Type{TypeKind::integer, 0}, Type{TypeKind::datetime, 0}}) {
      for (const unsigned null_in : {0U, 2U, 1U}) {
        std::vector<Value> values;
        for (std::size_t i = 0; i < 6000; ++i) {
          // Long stretches of nulls, too, so that pieces and blocks have no value.
          const bool null = (null_in != 0 && random() % null_in == 0) || (null_in == 2 && i / 1500 == 2);
          const Value value = exact(shape());
          values.push_back(null ? Value() : value);
        }
        expect_read_back(type, values);
      }
    }
  }
  expect_read_back({TypeKind::integer, 0}, {});
}

TEST(Column, RealsAreReadBackToTheBit) {
  std::mt19937_64 random(test::test_seed(9));
  const auto any = [&] {
    double value = std::nan("");
    while (!std::isfinite(value)) value = std::bit_cast<double>(random());
    return value == 0 ? 0 : value;
  };
  for (const Layout layout : {Layout::dictionary, Layout::bits}) {
    std::vector<Value> values;
    for (std::size_t i = 0; i < 5000; ++i) {
      const double value = layout == Layout::bits ? any() : static_cast<double>(random() % 5) / 7 - 0.3;
      values.push_back(random() % 90 == 0 ? Value() : Value::of(value));
    }
    EXPECT_EQ(expect_read_back({TypeKind::real, 0}, values).layout, layout);
  }
  expect_read_back({TypeKind::real, 0}, std::vector<Value>(5000));
}

TEST(Column, ADictionaryIsUsedWhereItPays) {
  std::vector<Value> values(10'000);
  for (std::size_t i = 0; i < values.size(); ++i) values[i] = exact(std::int64_t{1} << i % 4 * 9);
  EXPECT_TRUE(expect_read_back({TypeKind::integer, 0}, values).has_dictionary());
  // Equal steps need none.
  for (std::size_t i = 0; i < values.size(); ++i) values[i] = exact(static_cast<std::int64_t>(i % 4) * 1'000'000'007);
  const Column steps = expect_read_back({TypeKind::integer, 0}, values);
  EXPECT_FALSE(steps.has_dictionary());
  EXPECT_LT(steps.bytes(), 3000U);
  for (std::size_t i = 0; i < values.size(); ++i) values[i] = exact(static_cast<std::int64_t>(i));
  EXPECT_FALSE(expect_read_back({TypeKind::integer, 0}, values).has_dictionary());
}

// Dictionaries of one block and of many, with and without anything to share, with texts that hold zeros or are long,
// that share more than the first bytes, or nothing but their begin.
TEST(Column, TextsOfAllShapesAreReadBack) {
  std::mt19937_64 random(test::test_seed(10));
  const std::vector<std::function<std::string(std::size_t)>> shapes{
      [](std::size_t i) {
        return std::vector<std::string>{"pear", "", "äpfel", "apple"}[i % 4];
      },
      [](std::size_t i) { return "station " + std::to_string(i); },
      [&](std::size_t) { return std::to_string(random()); },
      [&](std::size_t) { return "the same first part " + std::to_string(random() % 3000) + " and a last one"; },
      [](std::size_t i) { return std::string(i % 5, '\0') + (i % 2 == 0 ? "x" : ""); },
      [&](std::size_t i) { return i % 500 == 0 ? std::string(70'000, 'a') + std::to_string(i) : "b"; }};
  for (const auto& shape : shapes) {
    std::vector<Value> values;
    for (std::size_t i = 0; i < 5000; ++i) values.push_back(random() % 11 == 0 ? Value() : Value::of(shape(i)));
    const Column column = expect_read_back({TypeKind::text, 0}, values);
    const auto viewed = TextDictionary::view(column.texts.bytes(), column.distinct, column.texts.directory_hash(), "x");
    EXPECT_NO_THROW(viewed->verify());
    EXPECT_EQ(viewed->at(column.distinct - 1), column.most.text());
  }
  expect_read_back({TypeKind::text, 0}, std::vector<Value>(5));
}

// So many different texts that the numbers of their pool become pointless, and some that come again.
TEST(Column, TextsWithoutNumbersAreReadBack) {
  std::mt19937_64 random(test::test_seed(11));
  std::vector<Value> values;
  for (std::size_t i = 0; i < 150'000; ++i)
    values.push_back(random() % 7 == 0 ? Value() : Value::of(std::to_string(i % 140'000 * 7)));
  const source::ColumnInput input = test::column_input({TypeKind::text, 0}, values);
  EXPECT_EQ(input.pieces.front().plain, nullptr);
  EXPECT_NE(input.pieces.back().plain, nullptr);
  const Column column = encode_column(input);
  for (std::size_t i = 0; i < values.size(); ++i) ASSERT_EQ(column.at(i), values[i]);
}

// Lengths that a block can't hold are damage, not a reason to ask for as much memory.
TEST(Column, ATextThatIsLongerThanItsBlockIsDamage) {
  for (const std::string& lengths :
       {std::string("\x00\xff\xff\xff\xff\x7f", 6), std::string("\x01\x01x", 3), std::string("\x00\x02x", 3),
        std::string("\x00", 1), std::string("\x00\x00x", 3)}) {
    std::vector<std::byte> bytes(32 + 8);
    const auto put = [&](std::size_t at, std::uint32_t number) { std::memcpy(bytes.data() + at, &number, 4); };
    put(8, static_cast<std::uint32_t>(lengths.size()));
    put(12, static_cast<std::uint32_t>(lengths.size()));
    std::memcpy(bytes.data() + 32, lengths.data(), lengths.size());
    put(16, short_hash(std::span(bytes).subspan(32, lengths.size())));
    const std::uint64_t hash = hash_bytes(std::span(bytes).first(32));
    const auto texts = TextDictionary::view(Bytes(std::move(bytes)), 1, hash, "x");
    ASSERT_TRUE(texts);
    EXPECT_THROW(texts->at(0), base::Failure);
  }
}

}  // namespace
}  // namespace juniper::store::codes_test
