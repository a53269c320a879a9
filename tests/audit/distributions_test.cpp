// How values are spread, against what the engine counts.
#include "juniper/distribution.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <memory>

#include "juniper/ask.h"
#include "juniper/demo.h"
#include "juniper/weigh.h"
#include "random/drawn_model.h"
#include "random/random_model.h"
#include "support/support.h"

namespace juniper::distribution_test {
namespace {

// Every figure, counted by queries.
void expect_as_asked(const Dataset& dataset, std::size_t most) {
  const auto all = distributions(dataset, {most, 7});
  ASSERT_TRUE(all) << test::messages(all.error());
  for (const Distribution& d : *all) {
    const std::string name = d.table + "." + d.column;
    const auto counted =
        ask(dataset, {fmt::format("by {0} show n = count({1}) where {0} is not null sort n desc, {0}", name, d.table)});
    ASSERT_TRUE(counted) << test::messages(counted.error());
    ASSERT_EQ(counted->rows.size(), d.distinct) << name;
    ASSERT_TRUE(d.is_counted);
    ASSERT_EQ(d.most_frequent.size(), std::min<std::size_t>(most, d.distinct)) << name;
    std::uint64_t valued = 0;
    for (const ResultRow& row : counted->rows) valued += static_cast<std::uint64_t>(row.cells[1].exact());
    EXPECT_EQ(valued + d.nulls, d.rows) << name;
    for (std::size_t i = 0; i < d.most_frequent.size(); ++i) {
      // Columns that are sorted by others order what is equally frequent in another way.
      EXPECT_EQ(d.most_frequent[i].rows, static_cast<std::uint64_t>(counted->rows[i].cells[1].exact())) << name;
      const auto same = std::find_if(counted->rows.begin(), counted->rows.end(),
                                     [&](const ResultRow& row) { return row.cells[0] == d.most_frequent[i].value; });
      ASSERT_NE(same, counted->rows.end()) << name;
      EXPECT_EQ(d.most_frequent[i].rows, static_cast<std::uint64_t>(same->cells[1].exact())) << name;
    }
    const bool has_ranges = d.type.kind != TypeKind::text && d.type.kind != TypeKind::boolean && d.distinct != 0;
    ASSERT_EQ(!d.ranges.empty(), has_ranges) << name;
    std::uint64_t in_ranges = 0;
    for (std::size_t r = 0; r < d.ranges.size(); ++r) {
      const ValueRange& range = d.ranges[r];
      const bool is_last = r + 1 == d.ranges.size();
      const auto lies_in = [&](const Value& value) {
        if (d.type.kind == TypeKind::real) {
          return value.real() >= range.from.real() &&
                 (is_last ? value.real() <= range.to.real() : value.real() < range.to.real());
        }
        return value.exact() >= range.from.exact() && value.exact() <= range.to.exact();
      };
      std::uint64_t rows = 0;
      for (const ResultRow& row : counted->rows)
        rows += lies_in(row.cells[0]) ? static_cast<std::uint64_t>(row.cells[1].exact()) : 0;
      EXPECT_EQ(range.rows, rows) << name << ", range " << r;
      in_ranges += range.rows;
    }
    EXPECT_EQ(in_ranges, has_ranges ? valued : 0) << name;
  }
}

TEST(Distributions, OfTheDemo) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path(), {3000, 4}));
  const auto dataset = Dataset::open(folder.path("charging.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  expect_as_asked(*dataset, 10);
}

// Types and values are drawn: extremes, nulls, single values, empty tables, both zeros, hashes of 64 bits.
TEST(Distributions, OfDrawnModels) {
  const std::uint64_t seed = test::test_seed(20261208);
  test::Random random(seed);
  for (std::size_t done = 0; done < test::test_count(60);) {
    const test::RandomModel model = test::drawn_model(random, 40);
    const test::SmallModel files(model.text(), model.files());
    const auto dataset = Dataset::open(files.path());
    if (!dataset) continue;
    ++done;
    expect_as_asked(*dataset, 1 + test::pick(random, 6));
    ASSERT_FALSE(testing::Test::HasFailure()) << "seed " << seed << "\n" << model.text();
  }
}

// A reader's are those of its own rows, without what is hidden; nor does a weighing tell the ends of that.
TEST(Distributions, AReaderSeesItsRowsAlone) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { a integer  b integer }\nreader one { t where t.a = 1  hide t.b }\n",
      {{"t.csv", "a,b\n1,77\n1,78\n2,79\n"}});
  Options options;
  options.reading.reader = "one";
  const Dataset dataset = model.open(options);
  const auto seen = distributions(dataset);
  ASSERT_TRUE(seen) << test::messages(seen.error());
  ASSERT_EQ(seen->size(), 1U);
  EXPECT_EQ(seen->at(0).column, "a");
  ASSERT_EQ(seen->at(0).most_frequent.size(), 1U);
  EXPECT_EQ(seen->at(0).most_frequent[0].rows, 2U);
  const Weighing weighed = weigh(dataset).value();
  for (const ColumnWeight& column : weighed.columns)
    EXPECT_EQ(column.min.is_null() && column.max.is_null(), column.column == "b");
}

TEST(Distributions, CanBeCalledOff) {
  const test::SmallModel model("table t from csv \"t.csv\" { a integer }\n", {{"t.csv", "a\n1\n2\n"}});
  const auto cancelled = std::make_shared<std::atomic<bool>>(false);
  Options options;
  options.cancelled = cancelled;
  const Dataset dataset = model.open(options);
  *cancelled = true;
  const auto refused = distributions(dataset);
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error()[0].code, "JR-707");
}

}  // namespace
}  // namespace juniper::distribution_test
