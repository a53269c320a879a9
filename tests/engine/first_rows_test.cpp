// The first rows of a result, which are chosen part by part while the rest is forgotten: the same rows as those that
// lead the whole result.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "support/support.h"

namespace juniper::first_rows_test {
namespace {

// More groups than a part has, by numbers, reals, and texts in the order of another column.
class FirstRows : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    std::string csv = "id,r,label,place,x,y,s\n";
    for (std::int64_t i = 0; i < 40'000; ++i) {
      const std::int64_t mixed = i * 7919 % 40'009;
      fmt::format_to(std::back_inserter(csv), "{},{}.{},l{},{},", i, mixed - 20'000, mixed % 4 * 25, mixed,
                     40'009 - mixed);
      fmt::format_to(std::back_inserter(csv), "{},{},{}\n", mixed % 17 == 0 ? "" : std::to_string(mixed % 1009), i % 7,
                     i % 13 == 0 ? "" : fmt::format("s{}", i % 101));
    }
    model_ = new test::SmallModel(
        R"(table t from csv "t.csv" { key id integer  r real  label text sorted by place  place integer  x integer
  y integer  s text })",
        {{"t.csv", csv}});
  }
  static void TearDownTestSuite() { delete model_; }

  // Compares all limits of a query with the query without one.
  static void expect_first(const std::string& query, const std::string& rest = "") {
    Options options;
    options.threads = 3;
    const Dataset dataset = model_->open(options);
    const auto whole = ask(dataset, {query + rest});
    ASSERT_TRUE(whole) << test::messages(whole.error());
    const auto is_total = [](const ResultRow& row) { return row.level != 0; };
    for (const std::size_t limit : {9'000, 10, 50'000}) {
      if (test::is_sanitized && limit != 9'000) break;
      SCOPED_TRACE(fmt::format("{} limit {}{}", query, limit, rest));
      const auto first = ask(dataset, {fmt::format("{} limit {}{}", query, limit, rest)});
      ASSERT_TRUE(first) << test::messages(first.error());
      std::vector<ResultRow> rows = first->rows;
      std::erase_if(rows, is_total);
      EXPECT_EQ(first->rows.size() - rows.size(),
                static_cast<std::size_t>(std::count_if(whole->rows.begin(), whole->rows.end(), is_total)));
      std::vector<ResultRow> expected = whole->rows;
      std::erase_if(expected, is_total);
      ASSERT_GT(expected.size(), 30'000U);  // of more combinations than a part has
      expected.resize(std::min(limit, expected.size()));
      ASSERT_EQ(rows.size(), expected.size());
      for (std::size_t i = 0; i < rows.size(); ++i) ASSERT_EQ(rows[i].cells, expected[i].cells) << "row " << i;
    }
  }

  static test::SmallModel* model_;
};
test::SmallModel* FirstRows::model_ = nullptr;

TEST_F(FirstRows, ByKeysOfEveryKind) {
  expect_first("by t.id show count(t) as n");
  expect_first("by t.id show count(t) as n sort t.id desc");
  expect_first("by t.r show count(t) as n");
  expect_first("by t.label show count(t) as n");
  expect_first("by t.y, t.label show count(t) as n sort t.y desc, n");
  expect_first("by t.r, t.id show count(t) as n");  // a key of more than 64 bits
}

TEST_F(FirstRows, ByMeasuresOfEveryType) {
  expect_first("by t.id show sum(x for t) as a, count(x for t) as n sort a desc");
  expect_first("by t.id show sum(x for t) as a, count(x for t) as n sort a");
  expect_first("by t.label show avg(x for t) as a, count(t) as n sort a desc");
  expect_first("by t.id show max(s for t) as a, count(t) as n sort a desc, t.id desc");
  expect_first("by t.id show min(s for t) || \"!\" as a sort a");
  expect_first("by t.label show sum(x * 1000000007.0000 * 1000000007.00 for t) as a sort a desc");
  expect_first("by t.id show sum(x for t) as a sort a desc", " total grand");
}

TEST_F(FirstRows, OfThoseThatAreLeft) {
  expect_first("by t.id show sum(x for t) as a having count(x for t) > 0 and sum(y for t) <> 3 sort a desc");
  expect_first("by t.id show sum(x for t) as a sort a", " keep empty");
  expect_first("by t.id show sum(x for t) as a, count(t) as n where t.y <> 5 sort a");
}

TEST_F(FirstRows, ANumberThatDoesNotFitIsToldOfWhereverItStands) {
  std::string csv = "id,x\n";
  for (int i = 0; i < 100'000; ++i)
    csv += fmt::format("{},{}\n", i, i == 40'003 || i == 99'990 || i == 70'001 ? "9223372036854775807" : "1");
  const test::SmallModel model(R"(table t from csv "t.csv" { key id integer  x integer })", {{"t.csv", csv}});
  const Dataset dataset = model.open();
  const auto failed = ask(dataset, {"by t.id show sum(x for t) + 1 as a sort a limit 3"});
  ASSERT_FALSE(failed);
  EXPECT_EQ(failed.error()[0].code, "JR-701");
  EXPECT_NE(failed.error()[0].message.find("'a' where t.id = 40003 does not fit"), std::string::npos)
      << failed.error()[0].message;
}

}  // namespace
}  // namespace juniper::first_rows_test
