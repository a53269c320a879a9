// Counts of distinct codes, as bits and as pairs, beside sets.
#include "engine/aggregate/distinct_codes.h"

#include <gtest/gtest.h>

#include <random>
#include <set>

namespace juniper::engine::distinct_codes_test {
namespace {

using Sets = std::vector<std::set<std::uint64_t>>;

// Rows of random groups and codes, a fifth of them null, added to both.
void add_random(std::mt19937_64& random, std::uint64_t null_code, std::size_t groups, std::size_t rows,
                Accumulator& counts, Sets& sets) {
  std::vector<std::uint32_t> codes(rows);
  std::vector<std::uint32_t> selected;
  std::vector<GroupIndex> of;
  for (std::size_t i = 0; i < rows; ++i) {
    const std::uint64_t code = random() % 5 == 0 ? null_code : random() % null_code;
    codes[i] = static_cast<std::uint32_t>(code);
    if (random() % 3 == 0) continue;  // a row that is filtered out
    selected.push_back(static_cast<std::uint32_t>(i));
    of.push_back(static_cast<GroupIndex>(random() % groups));
    if (code != null_code) sets[of.back()].insert(code);
  }
  counts.grow(groups);
  counts.add_codes({selected.size(), of.data(), selected.data()}, codes.data());
}

void expect_equal(const Accumulator& counts, const Sets& sets) {
  std::vector<GroupIndex> all(sets.size());
  for (std::size_t g = 0; g < all.size(); ++g) all[g] = static_cast<GroupIndex>(g);
  const Vector found = counts.result(all);
  for (std::size_t g = 0; g < sets.size(); ++g)
    ASSERT_EQ(found.narrow[g], static_cast<std::int64_t>(sets[g].size())) << g;
}

// Few groups and codes, those that fit bits, those that stop to fit, and those that never do.
constexpr std::uint64_t null_codes[] = {1, 63, 64, 1000, 3'000'000, 100'000'000, 0xFFFFFFFF};
constexpr std::size_t group_counts[] = {1, 7, 40, 500};

TEST(DistinctCodes, AreThoseOfSets) {
  std::mt19937_64 random(5);
  for (const std::uint64_t null_code : null_codes) {
    ASSERT_TRUE(counts_by_codes(null_code));
    for (const std::size_t groups : group_counts) {
      SCOPED_TRACE(testing::Message() << null_code << " codes, " << groups << " groups");
      Sets sets(groups);
      // Bits may take a byte for each row: of so many, more than otherwise.
      const auto counts = make_distinct_codes(null_code, groups == 40 ? 40'000'000 : 3000);
      for (std::size_t grown = 1; grown <= groups; grown = grown * 4 + 3)
        add_random(random, null_code, grown, 3000, *counts, sets);
      counts->grow(groups);
      expect_equal(*counts, sets);
    }
  }
  EXPECT_FALSE(counts_by_codes(0x100000000));
}

TEST(DistinctCodes, MeetInWhateverFormTheyHave) {
  std::mt19937_64 random(6);
  for (const std::uint64_t null_code : null_codes) {
    for (const std::size_t into_groups : group_counts) {
      for (const std::size_t from_groups : group_counts) {
        SCOPED_TRACE(testing::Message() << null_code << " codes, " << from_groups << " into " << into_groups);
        Sets into_sets(into_groups);
        Sets from_sets(from_groups);
        const auto into = make_distinct_codes(null_code, 3000);
        const auto from = make_distinct_codes(null_code, 3000);
        add_random(random, null_code, into_groups, 2000, *into, into_sets);
        add_random(random, null_code, from_groups, 2000, *from, from_sets);
        // The groups of the one in another order, some of them new.
        const std::size_t groups = std::max(into_groups, from_groups);
        std::vector<GroupIndex> at(from_groups);
        for (std::size_t g = 0; g < from_groups; ++g) at[g] = static_cast<GroupIndex>(groups - 1 - g);
        into->grow(groups);
        into->merge(*from, at);
        into_sets.resize(groups);
        for (std::size_t g = 0; g < from_groups; ++g) into_sets[at[g]].insert(from_sets[g].begin(), from_sets[g].end());
        expect_equal(*into, into_sets);
      }
    }
  }
}

TEST(DistinctCodes, KnowWhatOverflowedAndWhatIsNotThere) {
  const auto counts = make_distinct_codes(10, 1);
  const auto other = make_distinct_codes(10, 1);
  counts->grow(2);
  other->grow(1);
  other->poison(0);
  counts->merge(*other, std::vector<GroupIndex>{1});
  const Vector found = counts->result(std::vector<GroupIndex>{0, 1, 2});
  EXPECT_EQ(found.state[0], State::value);
  EXPECT_EQ(found.narrow[0], 0);
  EXPECT_EQ(found.state[1], State::overflow);
  EXPECT_EQ(found.narrow[2], 0);
}

}  // namespace
}  // namespace juniper::engine::distinct_codes_test
