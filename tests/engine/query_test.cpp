// Queries over a network small enough to check by hand.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>

#include "juniper/compare.h"
#include "support/support.h"

namespace juniper::query_test {
namespace {

constexpr const char* text =
    R"(table sessions from csv "sessions.csv" { key id integer  bay_id integer  tariff text  day date  stop_day date  energy decimal(1)  channel text }
table bays from csv "bays.csv" { key bay_id integer  station_id integer }
table stations from csv "stations.csv" { key station_id integer  region text  rank integer  label text sorted by rank }
table tariffs from csv "tariffs.csv" { key tariff text  price decimal(2) }
table days from csv "days.csv" { key day date  year integer  month integer  month_name text sorted by month }
table visits from csv "visits.csv" { key visit integer  bay_id integer  cost integer }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff -> tariffs.tariff
link sessions.day -> days.day
link sessions.stop_day -> days.day as stopped
link visits.bay_id -> bays.bay_id
measure energy = sum(energy for sessions)
measure revenue = sum(energy * tariffs.price for sessions)
measure price = revenue / energy
measure n = count(sessions)
measure app = sum(energy for sessions where channel = "app")
measure cost = sum(cost for visits)
measure stations_there = count(stations)
measure cost_of_one = cost / n
query monthly "By month" { by days.year, days.month_name show energy, n total days.year, grand }
)";

test::SmallModel network() {
  return {text,
          {{"sessions.csv",
            "id,bay_id,tariff,day,stop_day,energy,channel\n"
            "1,10,D,2024-01-30,2024-01-30,10.0,app\n"
            "2,10,N,2024-02-01,2024-02-02,20.5,card\n"
            "3,11,D,2024-12-31,2025-01-01,5.0,app\n"
            "4,20,X,2025-01-01,2025-01-01,7.0,card\n"    // no such tariff
            "5,99,D,2025-01-02,2025-01-02,1.0,\n"        // no such bay
            "6,20,,2025-02-01,2025-02-01,,app\n"         // no tariff, no energy
            "7,20,N,2023-05-05,2025-02-01,4.0,card\n"},  // a day that is not in the calendar
           {"bays.csv", "bay_id,station_id\n10,1\n11,1\n20,2\n30,3\n"},
           {"stations.csv", "station_id,region,rank,label\n1,Coast,2,first\n2,Upland,1,second\n3,Coast,3,third\n"},
           {"tariffs.csv", "tariff,price\nD,0.50\nN,0.30\nZ,9.00\n"},
           {"days.csv",
            "day,year,month,month_name\n2024-01-30,2024,1,January\n2024-02-01,2024,2,February\n2024-02-02,2024,2,"
            "February\n2024-12-31,2024,12,December\n2025-01-01,2025,1,January\n2025-01-02,2025,1,January\n2025-02-01,"
            "2025,2,February\n"},
           {"visits.csv", "visit,bay_id,cost\n1,10,100\n2,20,50\n3,30,30\n4,77,1\n"}}};
}

class QueryTest : public testing::Test {
 protected:
  test::SmallModel model_ = network();
  Dataset dataset_ = model_.open();

  void expect(const std::string& query, const std::string& rows, const std::vector<std::string>& where = {}) {
    EXPECT_EQ(test::answer(dataset_, query, where), rows) << query;
  }
};

TEST_F(QueryTest, WithoutKeysThereIsOneRow) {
  expect("show energy, n, revenue", "47.5|7|15.350");
  expect("show energy, n where sessions.id > 100", "null|0");
  expect("show 1 + 1 as two", "2");
}

TEST_F(QueryTest, GroupsByNearAndFarColumnsWithNullForNoMatch) {
  expect("by sessions.channel show n", "app|3\ncard|3\nnull|1");
  expect("by stations.region show energy, n", "Coast|35.5|3\nUpland|11.0|3\nnull|1.0|1");
  expect("by tariffs.tariff show energy", "D|16.0\nN|24.5\nnull|7.0");
  expect("by tariffs.price, stations.region show n",
         "0.30|Coast|1\n0.30|Upland|1\n0.50|Coast|2\n0.50|null|1\nnull|Upland|2");
  expect("by stopped.year show n", "2024|2\n2025|5");
  expect("by sessions.energy show n", "1.0|1\n4.0|1\n5.0|1\n7.0|1\n10.0|1\n20.5|1\nnull|1");
}

TEST_F(QueryTest, RowsWithoutAnyNumberAreLeftOut) {
  expect("by sessions.id show energy where sessions.id >= 5", "5|1.0\n7|4.0");
  expect("by sessions.id show energy, n where sessions.id >= 5", "5|1.0|1\n6|null|1\n7|4.0|1");
  expect("by days.year show app", "2024|15.0");
}

TEST_F(QueryTest, FiltersNearFarAndByRole) {
  expect("by stations.region show n where tariffs.price > 0.4", "Coast|2\nnull|1");
  expect("show n where stations.region is null", "1");
  expect("show n where stations.region <> \"Coast\"", "3");
  expect("show n where not (tariffs.price > 0.4)", "2");
  expect("show n where stopped.year = 2025 and days.year = 2024", "1");
  expect("show n where stations.region = \"Coast\" and sessions.channel = \"app\" or days.year = 2025", "5");
  expect("show n where sessions.energy > tariffs.price * 20", "1");
}

TEST_F(QueryTest, FurtherConditionsNarrowAQuery) {
  expect("monthly",
         "2024|January|10.0|1\n2024|February|20.5|1\n2024|December|5.0|1\ndays.year:2024||35.5|3\n2025|January|8.0|"
         "2\n2025|February|null|1\ndays.year:2025||8.0|3\nnull|null|4.0|1\ndays.year:null||4.0|1\ngrand:||47.5|7",
         {});
  expect("monthly",
         "2025|January|7.0|1\n2025|February|null|1\ndays.year:2025||7.0|2\nnull|null|4.0|1\ndays.year:null||4.0|"
         "1\ngrand:||11.0|3",
         {"stations.region = \"Upland\""});
  expect("monthly", "2024|January|10.0|1\ndays.year:2024||10.0|1\ngrand:||10.0|1",
         {"days.year = 2024", "sessions.channel = \"app\" and days.month = 1"});
}

TEST_F(QueryTest, TwoFactsStandSideBySide) {
  expect("by stations.region show n, cost, cost_of_one",
         "Coast|3|130|43.333333333333336\nUpland|3|50|16.666666666666668\nnull|1|1|1");
  expect("by bays.bay_id show n, cost", "10|2|100\n11|1|null\n20|3|50\n30|0|30\nnull|1|1");
  expect("by stations.region, tariffs.tariff show cost_of_one, n",
         "Coast|D|65|2\nCoast|N|130|1\nUpland|N|50|1\nUpland|null|25|2\nnull|D|1|1");  // tariffs do not reach visits:
                                                                                       // the region's cost
}

TEST_F(QueryTest, AFilterReachesOnlyTheTablesThatLeadThere) {
  const auto refused = ask(dataset_, {"by stations.region show stations_there where tariffs.tariff = \"D\"", {}});
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error()[0].code, "JR-403");
  // The condition reaches sessions and not visits: the cost of all visits, over the sessions that it leaves.
  expect("by stations.region show cost_of_one where tariffs.tariff = \"D\"", "Coast|65\nnull|1");
}

TEST_F(QueryTest, TotalsAreEvaluatedAndNotAddedUp) {
  expect("by stations.region show price, count(distinct s.tariff for s in sessions) as tariffs total grand",
         "Coast|0.3845070422535211|2\nUpland|0.10909090909090909|2\nnull|0.5|1\ngrand:|0.3231578947368421|3");
  expect("by stations.region, days.year show n total days.year, stations.region, grand",
         "Coast|2024|3\nstations.region:Coast||3\nUpland|2025|2\nUpland|null|1\nstations.region:Upland||3\nnull|2025|"
         "1\nstations.region:null||1\ndays.year:|2024|3\ndays.year:|2025|3\ndays.year:|null|1\ngrand:||7");
}

TEST_F(QueryTest, SortsByMeasuresKeysAndOtherColumns) {
  expect("by sessions.id show energy sort energy desc", "2|20.5\n1|10.0\n4|7.0\n3|5.0\n7|4.0\n5|1.0");
  expect("by sessions.id show energy, n sort energy",
         "5|1.0|1\n7|4.0|1\n3|5.0|1\n4|7.0|1\n1|10.0|1\n2|20.5|1\n6|null|1");
  expect("by sessions.id show energy, n sort energy desc limit 2 total grand", "2|20.5|1\n1|10.0|1\ngrand:|47.5|7");
  expect("by sessions.channel, sessions.id show n sort sessions.channel desc, sessions.id desc limit 4",
         "card|7|1\ncard|4|1\ncard|2|1\napp|6|1");
  expect("by stations.label show n", "second|3\nfirst|3\nnull|1");  // sorted by rank
  expect("by days.month_name show n", "January|3\nFebruary|2\nDecember|1\nnull|1");
  expect("by sessions.id show n limit 0", "");
}

TEST_F(QueryTest, FromNamesTheRows) {
  expect("from bays by bays.bay_id show n", "10|2\n11|1\n20|3\n30|0");
  expect("from bays by bays.bay_id show energy", "10|30.5\n11|5.0\n20|11.0");
}

TEST_F(QueryTest, EveryAggregateOverEveryType) {
  expect(
      "show sum(energy for sessions) as a, avg(energy for sessions) as b, min(energy for sessions) as c, max(energy "
      "for sessions) as d, count(energy for sessions) as e, count(sessions) as f",
      "47.5|7.916666666666667|1.0|20.5|6|7");
  expect(
      "show min(channel for sessions) as a, max(channel for sessions) as b, count(channel for sessions) as c, "
      "count(distinct channel for sessions) as d",
      "app|card|6|2");
  expect(
      "show min(day for sessions) as a, max(stopped.day for sessions) as b, count(distinct stopped.day for sessions) "
      "as c",
      "2023-05-05|2025-02-01|5");
  expect(
      "show sum(energy / 2 for sessions) as a, count(distinct energy / 2 for sessions) as b, max(channel || tariff for "
      "sessions) as c, count(distinct channel || tariff for sessions) as d",
      "23.75|6|cardX|3");
  expect("show min(energy > 5 for sessions) as a, max(energy > 5 for sessions) as b", "false|true");
  expect(
      "show sum(energy for sessions where false) as a, count(sessions where null = 1) as b, avg(energy for sessions "
      "where id > 99) as c, min(channel for sessions where false) as d",
      "null|0|null|null");
  expect(
      "by stations.region show sum(s.energy * s.tariffs.price for s in sessions where s.stations.region = \"Coast\") "
      "as coast, count(bays) as b",
      "Coast|13.650|3\nUpland|null|1\nnull|null|0");
}

TEST_F(QueryTest, AKeyThatOnlySomeTablesReachFiltersThoseAlone) {
  expect("by days.year show n, n / stations_there as each", "2024|3|1\n2025|3|1\nnull|1|0.3333333333333333");
}

TEST_F(QueryTest, TheResultDescribesItsColumns) {
  const auto result = ask(dataset_, {"monthly", {}});
  ASSERT_TRUE(result);
  EXPECT_EQ(result->title, "By month");
  EXPECT_EQ(result->levels, (std::vector<std::string>{"detail", "days.year", "grand"}));
  EXPECT_EQ(result->columns[1].name, "days.month_name");
  EXPECT_TRUE(result->columns[1].is_key);
  EXPECT_EQ(to_string(result->columns[2].type), "decimal(1)");
  EXPECT_EQ(result->rows_scanned, 7U);  // one pass for all levels
}

TEST_F(QueryTest, ErrorsPointIntoTheTypedText) {
  const auto missing = ask(dataset_, {"montly", {}});
  ASSERT_FALSE(missing);
  EXPECT_EQ(missing.error()[0].code, "JR-702");
  EXPECT_NE(missing.error()[0].suggestion.find("monthly"), std::string::npos);
  const auto typed = ask(dataset_, {"by stations.regio show energy", {}});
  ASSERT_FALSE(typed);
  EXPECT_EQ(typed.error()[0].place, (Place{"<query>", 1, 13}));
  const auto where = ask(dataset_, {"monthly", {"days.year = 2024", "days.yaer = 1"}});
  ASSERT_FALSE(where);
  EXPECT_EQ(where.error()[0].place, (Place{"<where>", 1, 6}));
  EXPECT_EQ(test::codes(ask(dataset_, {"show energy sort", {}}).error()), "JR-110");
  EXPECT_EQ(test::codes(ask(dataset_, {"show energy }", {}}).error()), "JR-110");
}

TEST(Query, ASumThatDoesNotFitNamesColumnAndGroup) {
  const test::SmallModel model("table t from csv \"t.csv\" { g text  x integer }\nmeasure s = sum(x for t)",
                               {{"t.csv",
                                 "g,x\na,1\nb,9000000000000000000\nb,9000000000000000000\nc,9000000000000000000\nc,"
                                 "9000000000000000000\nc,-9000000000000000000\n"}});
  const Dataset dataset = model.open();
  const auto result = ask(dataset, {"by t.g show s", {}});
  ASSERT_FALSE(result);
  EXPECT_EQ(result.error()[0].code, "JR-701");
  EXPECT_NE(result.error()[0].message.find("'s' where t.g = b"), std::string::npos) << result.error()[0].message;
  EXPECT_EQ(test::answer(dataset, "by t.g show s where t.g <> \"b\""), "a|1\nc|9000000000000000000");
  EXPECT_EQ(test::answer(dataset, "by t.g show avg(x for t) as m"), "a|1\nb|9e+18\nc|3e+18");
  EXPECT_EQ(test::answer(dataset, "show sum(round(x, 0) * 1.0 for t) as s"), "27000000000000000001.0");
  // Of several groups, the first in their order, whichever is met first.
  const test::SmallModel several("table t from csv \"t.csv\" { g real  x integer }\nmeasure s = sum(x for t)",
                                 {{"t.csv",
                                   "g,x\n7.5,9000000000000000000\n7.5,9000000000000000000\n2.5,9000000000000000000\n"
                                   "2.5,9000000000000000000\n"}});
  const auto first = ask(several.open(), {"by t.g show s", {}});
  ASSERT_FALSE(first);
  EXPECT_NE(first.error()[0].message.find("'s' where t.g = 2.5"), std::string::npos) << first.error()[0].message;
}

TEST(Query, EmptyTablesGiveEmptyAnswers) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key g text  x integer  d date  r real  y = x * 2 }\nmeasure s = sum(y for t) "
      "measure c = count(t)",
      {{"t.csv", "g,x,d,r\n"}});
  const Dataset dataset = model.open();
  EXPECT_EQ(test::answer(dataset, "show s, c, max(d for t) as d, avg(r for t) as r, min(g for t) as g"),
            "null|0|null|null|null");
  EXPECT_EQ(test::answer(dataset, "by t.g show s, c total grand"), "grand:|null|0");
}

TEST(Query, ManyColumnsMayBeTooWideToGroupBy) {
  std::string columns;
  std::string by;
  for (int i = 0; i < 3; ++i) {
    columns += " r" + std::to_string(i) + " real";
    by += (i == 0 ? "t.r" : ", t.r") + std::to_string(i);
  }
  std::string csv = "r0,r1,r2,none\n";
  for (int i = 0; i < 200; ++i)
    csv += std::to_string(i) + ".5," + std::to_string(i * 7) + ".25," + std::to_string(i * 3) + ".125,\n";
  const test::SmallModel model("table t from csv \"t.csv\" {" + columns + " none integer }\nmeasure c = count(t)",
                               {{"t.csv", csv}});
  const Dataset dataset = model.open();
  EXPECT_NE(test::answer(dataset, "by " + by + " show c").find("JR-703"), std::string::npos);
  Question by_rows{"by " + by + " show c"};
  by_rows.plan = Plan::naive;
  const auto answered = ask(dataset, by_rows);  // its keys are values, and need no room in a number
  ASSERT_TRUE(answered) << test::messages(answered.error());
  EXPECT_EQ(answered->rows.size(), 200U);
  // Two columns fill the whole key; a third that is always null needs no place in it.
  EXPECT_EQ(test::answer(dataset, "by t.r0, t.r1, t.none show c limit 1"), "0.5|0.25|null|1");
  EXPECT_EQ(test::answer(dataset, "by t.r0, t.r1 show c limit 2"), "0.5|0.25|1\n1.5|7.25|1");
}

// Reals are added in one order whatever the number of threads; exact results do not depend on any order.
TEST(Query, TheNumberOfThreadsChangesNoBit) {
  std::string csv = "id,g,x,r\n";
  constexpr std::int64_t rows = test::is_sanitized ? 200'000 : 700'000;
  for (std::int64_t i = 0; i < rows; ++i)
    csv += std::to_string(i) + "," + std::to_string(i * 7919 % 1013) + "," + std::to_string(i % 977) + "," +
           std::to_string(i * 31 % 1009) + "." + std::to_string(i % 89) + "\n";
  const test::SmallModel model(
      "table t from csv \"t.csv\" { id integer  g integer  x integer  r real }\nmeasure m = sum(r / 3 for t) measure k "
      "= count(distinct x for t)",
      {{"t.csv", csv}});
  QueryResult first;
  for (const unsigned threads : {1U, 2U, 3U, 8U}) {
    Options options;
    options.threads = threads;
    const auto result =
        ask(model.open(options), {"by t.g show m, k, avg(r for t) as a, max(r for t) as b total grand", {}});
    ASSERT_TRUE(result);
    if (threads == 1) first = *result;
    EXPECT_TRUE(compare(first, *result).same()) << threads;
    EXPECT_EQ(result->rows.size(), 1014U);
    // Zeros of both signs are equal: the first of them stands, wherever the others are met.
    const auto zero = ask(model.open(options), {fmt::format("show min((r - r) * ({} - id) for t) as z", rows / 2), {}});
    ASSERT_TRUE(zero);
    EXPECT_EQ(zero->rows[0].cells[0].real(), 0.0);
    EXPECT_FALSE(std::signbit(zero->rows[0].cells[0].real())) << threads;
  }
}

TEST(QueryResult, CellsAreFoundByTheNameOfTheirColumn) {
  const test::SmallModel model(R"(table t from csv "t.csv" { key id integer  kwh decimal(2)  site text }
    measure total = sum(kwh for t))",
                               {{"t.csv", "id,kwh,site\n1,1.50,Mill\n2,2.25,Quay\n"}});
  const auto result = ask(model.open(), {"by t.site show total"});
  ASSERT_TRUE(result);
  EXPECT_EQ(result->find("total"), 1U);
  EXPECT_EQ(result->find("site"), std::nullopt);
  EXPECT_EQ(result->text(1, "t.site"), "Quay");
  EXPECT_EQ(result->number(1, "total"), 2.25);
  EXPECT_EQ(result->text(0, "total"), "1.50");
  EXPECT_EQ(result->number(0, "t.site"), std::nullopt);
  EXPECT_EQ(result->cell(0, "none"), nullptr);
  ASSERT_NE(result->cell(0, "total"), nullptr);
  EXPECT_EQ(result->cell(0, "total")->exact(), 150);
}

}  // namespace
}  // namespace juniper::query_test
