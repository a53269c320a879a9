// Codes of several columns in one number.
#include <gtest/gtest.h>

#include <random>

#include "engine/scan/packed_keys.h"

namespace juniper::engine::key_layout_test {
namespace {

TEST(KeyLayout, GivesBackEveryCode) {
  std::mt19937_64 random(11);
  for (int round = 0; round < 2000; ++round) {
    std::vector<std::uint64_t> last;
    for (std::size_t columns = random() % 6; columns > 0; --columns) {
      const std::uint64_t some[] = {0, 1, random() % 10, random() % 5000, random() >> 32, random(), ~std::uint64_t{0}};
      last.push_back(some[random() % std::size(some)]);
    }
    const KeyLayout layout(last);
    ASSERT_EQ(layout.columns(), last.size());
    if (!layout.fits()) continue;
    PackedKey key = 0;
    std::vector<std::uint64_t> codes;
    for (std::size_t c = 0; c < last.size(); ++c) {
      // Often the largest, whose bits are the last that could meet those of a neighbour.
      codes.push_back(last[c] == ~std::uint64_t{0} || random() % 2 == 0 ? last[c] : random() % (last[c] + 1));
      key = layout.with(key, c, codes[c]);
    }
    for (std::size_t c = 0; c < last.size(); ++c) ASSERT_EQ(layout.code(key, c), codes[c]);
    if (layout.bits() < 128) {
      EXPECT_TRUE(key >> layout.bits() == 0);
    }
    EXPECT_TRUE(key <= layout.last());
    for (std::size_t c = 0; c < last.size(); ++c) ASSERT_EQ(layout.code(layout.last(), c), last[c]);
  }
}

TEST(KeyLayout, PutsTheWidestLowest) {
  const KeyLayout layout({3, 100'000, 1});
  EXPECT_EQ(layout.shift(1), 0U);
  EXPECT_EQ(layout.shift(0), 17U);
  EXPECT_EQ(layout.shift(2), 19U);
  EXPECT_EQ(layout.bits(), 20U);
}

TEST(KeyLayout, TellsWhatDoesNotFit) {
  EXPECT_TRUE(KeyLayout({~std::uint64_t{0}, ~std::uint64_t{0}}).fits());
  EXPECT_FALSE(KeyLayout({~std::uint64_t{0}, ~std::uint64_t{0}, 1}).fits());
}

TEST(PackedKeys, AreKeptInAsManyBytesAsTheyNeed) {
  std::mt19937_64 random(12);
  for (const unsigned bits : {0U, 1U, 31U, 32U, 33U, 64U, 65U, 127U, 128U}) {
    SCOPED_TRACE(bits);
    PackedKeys keys(bits);
    EXPECT_TRUE(keys.empty());
    std::vector<PackedKey> expected;
    for (int i = 0; i < 1000; ++i) {
      const PackedKey key = PackedKey{random()} << 64 | random();
      expected.push_back(bits == 128 ? key : key & ((PackedKey{1} << bits) - 1));
      keys.push_back(expected.back());
    }
    ASSERT_EQ(keys.size(), expected.size());
    const std::size_t bytes = keys.visit([](const auto& all) { return sizeof(all[0]); });
    EXPECT_EQ(bytes, bits <= 32 ? 4U : (bits <= 64 ? 8U : 16U));
    for (std::size_t i = 0; i < expected.size(); ++i) ASSERT_TRUE(keys[i] == expected[i]) << i;
    const PackedKeys part = keys.part(10, 20);
    ASSERT_EQ(part.size(), 10U);
    for (std::size_t i = 0; i < 10; ++i) EXPECT_TRUE(part[i] == expected[10 + i]);
    EXPECT_TRUE(keys.part(7, 7).empty());
  }
}

}  // namespace
}  // namespace juniper::engine::key_layout_test
