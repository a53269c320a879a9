// What findings promise to save is what their steps save, whatever the model.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>

#include "juniper/audit.h"
#include "juniper/refactor.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/support.h"

namespace juniper::savings_test {
namespace {

std::int64_t held_bytes(const BytesByPart& bytes) {
  return static_cast<std::int64_t>(bytes.total() - bytes.rest);
}

// Promised beside saved, of findings whose step is accepted; by rule.
using Savings = std::map<std::string, std::vector<std::pair<std::int64_t, std::int64_t>>>;

std::string compare_savings(const Dataset& dataset, Savings& savings) {
  std::string wrong;
  const auto audited = audit(dataset);
  if (!audited) return test::messages(audited.error());
  // Of all together, each column counts once, and no column for more than it takes.
  std::uint64_t all = 0;
  std::uint64_t most = 0;
  for (const Finding& finding : audited->findings) {
    all += finding.saved_bytes.value_or(0);
    most = std::max(most, finding.saved_bytes.value_or(0));
    std::uint64_t columns = 0;
    for (const auto& [column, bytes] : finding.saved_by_column) columns += bytes;
    EXPECT_EQ(columns, finding.saved_by_column.empty() ? 0 : *finding.saved_bytes) << finding.subject;
  }
  EXPECT_LE(audited->saved_bytes, all);
  EXPECT_GE(audited->saved_bytes, most);
  for (const Finding& finding : audited->findings) {
    if (finding.step.empty() || !finding.saved_bytes) continue;
    const auto refactoring = refactor(dataset, finding.step);
    // Sums of reals may come to nothing in another order: that is found by the proofs, and told there.
    if (!refactoring) continue;
    const std::int64_t saved =
        held_bytes(refactoring->ledger.bytes_before) - held_bytes(refactoring->ledger.bytes_after);
    const auto promised = static_cast<std::int64_t>(*finding.saved_bytes);
    savings[finding.code].emplace_back(promised, saved);
    if (std::abs(promised - saved) > std::max<std::int64_t>(48, promised / 20))
      wrong += fmt::format("{} {} promises {} and saves {}\n", finding.code, finding.step, promised, saved);
  }
  return wrong;
}

TEST(Savings, WhatIsPromisedIsSaved) {
  const std::uint64_t seed = test::test_seed(1107);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  Savings savings;
  const std::size_t models = std::max<std::size_t>(6, test::test_count(6));
  for (std::size_t round = 0; round < models; ++round) {
    test::RandomModel model = round % 2 == 0 ? test::drawn_model(random, 6000) : test::random_model(random, 3000);
    test::add_definitions(random, model);
    model.measures.resize(std::min<std::size_t>(model.measures.size(), 4));
    const auto dataset = test::SmallModel(model.text(), model.files());
    if (const auto read = Model::parse("m.ridge", model.text()); !read) continue;
    EXPECT_EQ(compare_savings(dataset.open(), savings), "") << "round " << round;
  }
  for (const auto& [code, found] : savings) fmt::print("{}: {} findings\n", code, found.size());
  EXPECT_GT(savings["JA-114"].size() + savings["JA-107"].size(), 0U);
}

}  // namespace
}  // namespace juniper::savings_test
