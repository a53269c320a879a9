// Codes of several columns in one number.
#include <gtest/gtest.h>

#include <random>

#include "engine/scan.h"

namespace juniper::engine {
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

}  // namespace
}  // namespace juniper::engine
