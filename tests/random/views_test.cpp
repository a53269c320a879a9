// What looks at a model from another side says the same: of drawn models, the opened parts of a measure, bytes, links and
// descriptions agree with answers.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/exact.h"
#include "juniper/audit.h"
#include "juniper/describe.h"
#include "juniper/explain.h"
#include "juniper/links.h"
#include "juniper/unfold.h"
#include "juniper/weigh.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::views_test {
namespace {

// A measure opened into its parts begins with the value that asking for it gives, with a condition and without; of each
// aggregate, no more rows are kept than seen, and no more seen than there are.
void expect_unfolded(test::Random& random, const test::RandomModel& model, const Dataset& dataset,
                     const std::string& measure, std::size_t& opened) {
  std::vector<std::string> at;
  if (test::chance(random, 50)) {
    const test::TableInfo& table = model.tables[test::pick(random, model.tables.size())];
    at.push_back(fmt::format("{}.{} is not null", table.name, table.columns[0].name));
  }
  const auto answer = ask(dataset, {"show " + measure, at});
  const auto unfolded = unfold(dataset, measure, at);
  if (!answer && unfolded) {
    // What is too large for an answer is what one opens a measure for.
    const Value& value = unfolded->parts.at(0).value;
    EXPECT_EQ(test::codes(answer.error()), "JR-701") << measure;
    EXPECT_FALSE(base::fits_int64(value.exact())) << measure;
    return;
  }
  ASSERT_EQ(answer.has_value(), unfolded.has_value())
      << measure << test::messages(answer ? unfolded.error() : answer.error());
  if (!answer) return;
  ++opened;
  QueryResult whole = *answer;
  whole.rows[0].cells[0] = unfolded->parts.at(0).value;
  EXPECT_EQ(test::answer_difference(*answer, whole), "") << measure;
  for (const UnfoldedPart& part : unfolded->parts) {
    if (part.kind != UnfoldedKind::aggregate) continue;
    EXPECT_LE(part.seen.value_or(0), part.all.value_or(part.seen.value_or(0))) << measure;
    EXPECT_LE(part.skipped, part.kept) << measure;
  }
}

TEST(Views, AgreeWithAnswers) {
  const std::uint64_t seed = test::test_seed(20261204);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  std::size_t opened = 0;
  for (std::size_t round = 0; round < std::max<std::size_t>(8, test::test_count(60) / 2); ++round) {
    test::RandomModel model = test::drawn_model(random, 60);
    test::add_definitions(random, model);
    const test::SmallModel files(model.text(), model.files());
    const auto dataset = Dataset::open(files.path());
    if (!dataset) continue;
    SCOPED_TRACE(model.text());

    const Weighing weighing = weigh(*dataset).value();
    std::uint64_t bytes = weighing.overhead_bytes;
    for (const TableWeight& table : weighing.tables) bytes += table.total_bytes();
    EXPECT_EQ(bytes, weighing.file_bytes);
    for (const ColumnWeight& column : weighing.columns) {
      const std::string name = column.table + "." + column.column;
      const auto answer =
          ask(*dataset, {fmt::format("show d = count(distinct {0} for {1}), n = count({1}), v = count({0} for {1})",
                                     column.column, column.table)});
      ASSERT_TRUE(answer) << name << test::messages(answer.error());
      EXPECT_EQ(answer->rows[0].cells[0].exact(), int128{column.distinct}) << name;
      EXPECT_EQ(answer->rows[0].cells[1].exact(), int128{column.rows}) << name;
      EXPECT_EQ(answer->rows[0].cells[2].exact(), int128{column.rows} - int128{column.nulls}) << name;
    }
    EXPECT_TRUE(links(*dataset));
    EXPECT_TRUE(audit(*dataset));
    const auto described = describe(dataset->model());
    ASSERT_TRUE(described);
    for (int q = 0; q < 6; ++q) {
      const std::string query = test::random_query(random, model).text();
      EXPECT_EQ(explain(*dataset, {query}).has_value(), ask(*dataset, {query}).has_value()) << query;
    }
    for (const MeasureInfo& measure : dataset->model().measures())
      expect_unfolded(random, model, *dataset, measure.name, opened);
    if (HasFailure()) return;
  }
  fmt::print("{} measures opened\n", opened);
  EXPECT_GT(opened, 5U);
}

}  // namespace
}  // namespace juniper::views_test
