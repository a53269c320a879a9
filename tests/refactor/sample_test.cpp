// Some of the rows of large tables, on both sides of a change: what they are, and that a fault of a rewritten measure
// still shows.
#include "refactor/sample.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/refactor.h"
#include "model/access.h"
#include "support/support.h"

namespace juniper::sample_test {
namespace {

class Sampled : public testing::Test {
 protected:
  void SetUp() override {
    std::string sessions = "id,bay_id,kwh,note\n";
    for (int i = 0; i < rows; ++i)
      sessions += fmt::format("{},{},{}.{},{}\n", i, i == 4'321 ? 99 : i % 7, i % 13, i % 10, i % 3 == 0 ? "" : "x");
    model_.folder.write("s.csv", sessions);
    model_.folder.write("b.csv", "bay_id,lane\n0,a\n1,b\n2,c\n3,d\n4,a\n5,b\n6,\n");
  }
  static constexpr int rows = 9'000;
  test::SmallModel model_{
      "table sessions from csv \"s.csv\" { key id integer  bay_id integer  kwh decimal(1)  note text  double = kwh * 2 "
      "}\n"
      "table bays from csv \"b.csv\" { key bay_id integer  lane text }\nlink sessions.bay_id -> bays.bay_id\n"
      "measure n = count(sessions)\nmeasure total = sum(double for sessions)\nquery q { by bays.lane show n, total }\n",
      {{"s.csv", "id,bay_id,kwh,note\n"}, {"b.csv", "bay_id,lane\n"}}};
};

TEST_F(Sampled, HoldsWholeRowsOfLargeTablesAndAllOfOthers) {
  const Dataset dataset = model_.open();
  const auto few = refactoring::sample(dataset, dataset, {}, 500);
  EXPECT_EQ(few.rows, 500U);
  const std::string all =
      test::answer(few.before, "by sessions.id, sessions.bay_id, bays.lane, sessions.note show total");
  EXPECT_EQ(all, test::answer(few.after, "by sessions.id, sessions.bay_id, bays.lane, sessions.note show total"));
  const auto answer = ask(few.before, {"by sessions.id, sessions.bay_id, bays.lane, sessions.note show total"});
  ASSERT_TRUE(answer);
  EXPECT_GE(answer->rows.size(), 480U);
  EXPECT_LE(answer->rows.size(), 600U);
  bool has_no_match = false;
  const auto whole = ask(dataset, {"by sessions.id, sessions.bay_id, bays.lane, sessions.note show total"});
  std::map<std::string, std::string> expected;
  const auto text = [](const QueryResult& result, std::size_t row) {
    std::string cells;
    for (const ResultColumn& column : result.columns) cells += result.text(row, column.name).value_or("null") + "|";
    return cells;
  };
  for (std::size_t row = 0; row < whole->rows.size(); ++row)
    expected.emplace(*whole->text(row, "sessions.id"), text(*whole, row));
  for (std::size_t row = 0; row < answer->rows.size(); ++row) {
    const std::string id = *answer->text(row, "sessions.id");
    EXPECT_EQ(text(*answer, row), expected.at(id));
    has_no_match = has_no_match || id == "4321";
  }
  EXPECT_TRUE(has_no_match);
  // What links lead to is whole, however large.
  EXPECT_EQ(refactoring::sample(dataset, dataset, {}, 5).rows, 5U);
  EXPECT_EQ(test::answer(refactoring::sample(dataset, dataset, {}, 5).before, "show b = count(bays)"), "7");
  refactoring::Changed changed;
  changed.tables.insert(0);
  EXPECT_EQ(refactoring::sample(dataset, dataset, changed, 500).rows, 0U);
  EXPECT_EQ(refactoring::sample(dataset, dataset, {}, rows).rows, 0U);
}

TEST_F(Sampled, ProbesOverItFindWhatOneMeasureGetsWrong) {
  const Dataset dataset = model_.open();
  RefactorSettings settings;
  settings.sample_rows = 300;
  const auto inlined = refactor(dataset, "inline sessions.double", settings);
  ASSERT_TRUE(inlined) << test::messages(inlined.error());
  EXPECT_TRUE(inlined->proved());
  EXPECT_EQ(inlined->probes.sample_rows, 300U);
  EXPECT_EQ(inlined->probes.asked_of_all, 1U);
  EXPECT_GT(inlined->probes.asked, 10U);
  // Digits that go are another total in every slice: told of all rows.
  const auto rounded = refactor(dataset, "round sessions.kwh integer", settings);
  ASSERT_TRUE(rounded) << test::messages(rounded.error());
  EXPECT_FALSE(rounded->proved());
  ASSERT_FALSE(rounded->probes.differing.empty());
  EXPECT_GT(rounded->probes.asked_of_all, 1U);
  EXPECT_EQ(rounded->probes.differing[0].query, "show total");
}

}  // namespace
}  // namespace juniper::sample_test
