// Drafts of measures beside the present ones.
#include "juniper/draft.h"

#include <gtest/gtest.h>

#include "juniper/report.h"
#include "support/support.h"

namespace juniper::draft_test {
namespace {

constexpr const char* text =
    R"(table sessions from csv "s.csv" { key id integer  tariff text  energy decimal(1)  channel text }
table tariffs from csv "t.csv" { key tariff text  plan text  price decimal(2) }
link sessions.tariff -> tariffs.tariff
measure energy  = sum(energy for sessions)  format "0.0"   # in kWh
measure revenue = sum(energy * tariffs.price for sessions)  format "0.00"
measure price   = revenue / energy
measure n       = count(sessions)
query plans { by tariffs.plan show revenue, price total grand }
query counts { by tariffs.plan show n }
)";

test::SmallModel network() {
  return {text,
          {{"s.csv", "id,tariff,energy,channel\n1,D,10.0,app\n2,N,20.0,app\n3,D,5.0,card\n4,X,7.0,card\n5,F,1.0,app\n"},
           {"t.csv", "tariff,plan,price\nD,day,0.50\nN,night,0.30\nF,fleet,0.20\n"}}};
}

TEST(Draft, ShowsBaseAndDraftOverTheQueriesThatDependOnIt) {
  const test::SmallModel model = network();
  const Dataset dataset = model.open();
  const auto made = draft(dataset, "measure energy = sum(energy for sessions where tariffs.plan is not null)");
  ASSERT_TRUE(made) << test::messages(made.error());
  EXPECT_EQ(made->before, "sum(energy for sessions)");
  ASSERT_EQ(made->queries.size(), 1U);  // `counts` does not depend on it
  EXPECT_EQ(made->queries[0].query, "plans");
  EXPECT_FALSE(made->same());
  // Only the total's price changes: without a tariff there is no revenue either.
  EXPECT_EQ(made->queries[0].comparison.differences, 1U);
  EXPECT_EQ(made->queries[0].comparison.samples[0].column, "price");
}

TEST(Draft, TellsWhereADifferenceComesFrom) {
  const test::SmallModel model = network();
  const auto made = draft(model.open(), "measure energy = sum(energy for sessions where tariffs.plan is not null)");
  ASSERT_TRUE(made);
  ASSERT_FALSE(made->narrowing.sources.empty());
  // All of it lies in the tariff that has no match, and there in one session.
  EXPECT_EQ(made->narrowing.sources[0].column, "sessions.tariff");
  EXPECT_EQ(made->narrowing.sources[0].values, (std::vector<std::string>{"X: -7"}));
  EXPECT_EQ(made->narrowing.sources[0].of_values, 4U);
  ASSERT_EQ(made->narrowing.rows.size(), 1U);
  std::string columns;
  for (const ResultColumn& column : made->narrowing.row_columns) columns += column.name + " ";
  EXPECT_EQ(columns, "sessions.id sessions.energy tariffs.plan energy with the draft ");
  EXPECT_EQ(to_text(made->narrowing.rows[0].cells[0], {}), "4");
  EXPECT_EQ(to_text(made->narrowing.rows[0].base, made->narrowing.row_columns[3].type), "7.0");
  EXPECT_TRUE(made->narrowing.rows[0].other.is_null());
  EXPECT_EQ(made->narrowing.sources[0].share, 1);
  EXPECT_NE(render(report(*made)).find("Where it comes from"), std::string::npos);
}

TEST(Draft, NumbersOfOtherScaleAreComparedAsNumbers) {
  const test::SmallModel model = network();
  const auto made =
      draft(model.open(), "measure revenue = sum(round(energy * tariffs.price, 1) for sessions)", {"plans"});
  ASSERT_TRUE(made) << test::messages(made.error());
  // The scale differs, and no number does.
  EXPECT_EQ(made->queries[0].comparison.differences, 1U);
  EXPECT_EQ(made->queries[0].comparison.samples[0].kind, DifferenceKind::columns);
  EXPECT_EQ(made->queries[0].comparison.cells, 8U);
  EXPECT_TRUE(made->narrowing.rows.empty());
}

TEST(Draft, TheSameMeaningIsTheSameEverywhere) {
  const test::SmallModel model = network();
  const auto made = draft(model.open(), "measure revenue = sum(tariffs.price * energy for sessions)");
  ASSERT_TRUE(made);
  EXPECT_TRUE(made->same()) << made->queries[0].comparison.samples[0].expected;
  EXPECT_TRUE(made->narrowing.sources.empty());
}

TEST(Draft, ANewMeasureIsShownAlone) {
  const test::SmallModel model = network();
  const auto made = draft(model.open(), "measure twice = energy * 2", {"by tariffs.plan show twice"});
  ASSERT_TRUE(made) << test::messages(made.error());
  EXPECT_EQ(made->before, "");
  EXPECT_EQ(test::rows_of(made->queries[0].draft), "day|30.0\nfleet|2.0\nnight|40.0\nnull|14.0");
  EXPECT_NE(render(report(*made)).find("40.0"), std::string::npos);
}

TEST(Draft, IsKeptInItsPlaceWithEverythingAround) {
  const test::SmallModel model = network();
  const auto made = draft(model.open(), "measure energy = sum(energy for sessions where channel = \"app\")");
  ASSERT_TRUE(made);
  ASSERT_TRUE(keep(model.open(), *made));
  std::string expected = text;
  expected.replace(expected.find("sum(energy for sessions)"), 24, "sum(energy for sessions where channel = \"app\")");
  EXPECT_EQ(test::read_file(model.path()), expected);
  const auto fresh = draft(model.open(), "measure twice = energy * 2");
  ASSERT_TRUE(keep(model.open(), *fresh));
  EXPECT_EQ(test::read_file(model.path()), expected + "measure twice = energy * 2\n");
  EXPECT_EQ(test::answer(model.open(), "show twice"), "62.0");
  // A text that has changed meanwhile is left alone.
  const Dataset dataset = model.open();
  model.folder.write("model.ridge", test::read_file(model.path()) + "# later\n");
  const auto refused = keep(dataset, *made);
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error()[0].code, "JR-805");
}

TEST(Draft, BadTextsAreErrors) {
  const test::SmallModel model = network();
  const Dataset dataset = model.open();
  EXPECT_EQ(test::codes(draft(dataset, "revenue = 1").error()), "JR-110");
  EXPECT_EQ(test::codes(draft(dataset, "measure revenue = enrgy").error()), "JR-204");
  EXPECT_EQ(test::codes(draft(dataset, "measure revenue = price").error()), "JR-211");
  EXPECT_EQ(test::codes(draft(dataset, "measure revenue = 1", {"nothing"}).error()), "JR-702");
}

}  // namespace
}  // namespace juniper::draft_test
