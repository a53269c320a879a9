// The whole language over a network small enough to check by hand. Every answer is asked for three times: of the
// engine, of the naive evaluator, and by what stands here.
#include <gtest/gtest.h>

#include "juniper/explain.h"
#include "juniper/report.h"
#include "juniper/sql.h"
#include "support/support.h"

namespace juniper::language_test {
namespace {

constexpr const char* declarations =
    R"(param min_price = 0.45
table sessions from csv "sessions.csv" {
  key id integer  bay_id integer  start_day date  end_day date  started datetime  energy_kwh decimal(1)  tariff_code text
  channel text  idle_minutes integer
)";
constexpr const char* rest =
    R"(}
table bays from csv "bays.csv" { key bay_id integer  station_id integer
)";
constexpr const char* stations =
    R"(}
table stations from csv "stations.csv" { key station_id integer  name text  region text  installed date
)";
constexpr const char* others =
    R"(}
table tariffs from csv "tariffs.csv" { key tariff_code text  plan text  price_per_kwh decimal(2) }
table days from csv "days.csv" { key day date  year integer  month integer  month_name text sorted by month  weekday integer }
table visits from csv "visits.csv" { key visit integer  bay_id integer  site text  lane integer  kind text  cost integer }
table categories from csv "categories.csv" { site text  lane integer  kind text  description text }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff_code -> tariffs.tariff_code
link sessions.start_day -> days.day
link sessions.end_day -> days.day as end_date
link visits.bay_id -> bays.bay_id
link visits.(site, lane, kind) -> categories.(site, lane, kind)
calendar days.day periods (year, month, month_name)
measure energy = sum(energy_kwh for sessions)
measure revenue = sum(energy_kwh * tariffs.price_per_kwh for sessions)
measure price = revenue / energy
measure share = revenue / (revenue across stations)
)";

// Calculated columns of sessions and of stations, and what follows the links.
test::SmallModel network(const std::string& session_columns = "", const std::string& station_columns = "",
                         const std::string& more = "") {
  return {
      declarations + session_columns + rest + stations + station_columns + others + more,
      {{"sessions.csv",
        "id,bay_id,start_day,end_day,started,energy_kwh,tariff_code,channel,idle_minutes\n"
        "1,10,2025-01-01,2025-01-01,2025-01-01 08:00:00,10.0,D,app,0\n"
        "2,10,2025-01-02,2025-01-03,2025-01-02 09:00:00,20.0,N,card,5\n"
        "3,11,2025-01-02,2025-01-02,2025-01-02 10:00:00,5.0,D,app,2\n"
        "4,20,2025-02-01,2025-02-01,2025-02-01 08:00:00,7.0,X,card,\n"
        "5,20,2025-02-03,2025-03-01,2025-02-03 12:00:00,7.0,D,app,3\n"
        "6,30,2025-02-03,2025-02-03,2025-02-03 13:00:00,,N,card,1\n"
        "7,99,2025-01-02,2025-01-02,2025-01-02 11:00:00,4.0,D,app,1\n"},
       {"bays.csv", "bay_id,station_id\n10,1\n11,1\n20,2\n30,3\n40,4\n"},
       {"stations.csv",
        "station_id,name,region,installed\n1,Pier,Coast,2020-02-29\n2,Ridge,Upland,2021-06-01\n3,Cove,Coast,2022-12-"
        "31\n"
        "4,Moor,Lowland,2024-01-01\n"},
       {"tariffs.csv", "tariff_code,plan,price_per_kwh\nD,day,0.50\nN,night,0.30\n"},
       {"days.csv",
        "day,year,month,month_name,weekday\n2025-01-01,2025,1,January,3\n2025-01-02,2025,1,January,4\n"
        "2025-01-03,2025,1,January,5\n2025-02-01,2025,2,February,6\n2025-02-02,2025,2,February,7\n"
        "2025-02-03,2025,2,February,1\n2025-03-01,2025,3,March,6\n"},
       {"visits.csv", "visit,bay_id,site,lane,kind,cost\n1,10,A,1,x,100\n2,10,A,2,x,50\n3,20,B,1,,30\n4,20,B,1,y,5\n"},
       {"categories.csv", "site,lane,kind,description\nA,1,x,clean\nA,2,x,repair\nB,1,z,paint\n"}}};
}

Options on_a_day() {
  Options options;
  options.today = parse_value("2025-03-01", Type{TypeKind::date, 0})->exact();
  return options;
}

class Language : public testing::Test {
 protected:
  void expect(const Dataset& dataset, const std::string& query, const std::string& rows) {
    Question question{query};
    for (const Plan plan : {Plan::engine, Plan::naive}) {
      question.plan = plan;
      const auto answer = ask(dataset, question);
      EXPECT_EQ(answer ? test::rows_of(*answer) : test::messages(answer.error()), rows)
          << query << (plan == Plan::engine ? " (engine)" : " (naive)");
    }
  }
  void expect(const std::string& query, const std::string& rows) { expect(dataset_, query, rows); }
  void expect_error(const std::string& query, const std::string& code, const std::string& says = "") {
    const auto answer = ask(dataset_, {query});
    ASSERT_FALSE(answer) << query;
    EXPECT_EQ(test::codes(answer.error()), code) << query << "\n" << test::messages(answer.error());
    EXPECT_NE(test::messages(answer.error()).find(says), std::string::npos) << test::messages(answer.error());
  }
  // The values of a calculated column of sessions, in the order of their keys.
  void expect_column(const std::string& expression, const std::string& values, const std::string& type = "sessions") {
    const std::string column = "  calculated = " + expression + "\n";
    const test::SmallModel model = type == "sessions" ? network(column) : network("", column);
    const Dataset dataset = model.open(on_a_day());
    const std::string key = type == "sessions" ? "sessions.id" : "stations.station_id";
    const std::string answer =
        test::answer(dataset, "by " + key + ", " + type + ".calculated show count(" + type + ") as n");
    std::string found;
    std::size_t at = 0;
    while (at < answer.size()) {
      const std::size_t end = std::min(answer.find('\n', at), answer.size());
      const std::string line = answer.substr(at, end - at);
      const std::size_t first = line.find('|');
      const std::size_t last = line.rfind('|');
      found += (found.empty() ? "" : " ") + line.substr(first + 1, last - first - 1);
      at = end + 1;
    }
    EXPECT_EQ(found, values) << expression;
  }

  test::SmallModel model_ = network();
  Dataset dataset_ = model_.open(on_a_day());
};

// --- the table of examples ------------------------------------------------------------------------------------------

TEST_F(Language, LineValueWithoutAStoredColumn) {
  // 10 * 0.5 + 20 * 0.3 + 5 * 0.5 + 7 * 0.5 + 4 * 0.5
  expect("show sum(energy_kwh * tariffs.price_per_kwh for sessions) as r", "19.000");
}

TEST_F(Language, OnlyOneChannelNullForTheRest) {
  expect("by stations.name show sum(energy_kwh for sessions where channel = \"app\") as app, count(sessions) as n",
         "Cove|null|1\nPier|15.0|3\nRidge|7.0|2\nnull|4.0|1");
}

TEST_F(Language, AgeInWholeYearsAveraged) {
  // 5, 3, 2 and 1 whole years on 2025-03-01
  expect("show avg(trunc(years_between(installed, today())) for stations) as age", "2.75");
}

TEST_F(Language, RunningTotalPerBayAsACalculatedColumn) {
  expect_column("sum(t.energy_kwh for t in sessions where t.bay_id = this.bay_id and t.started <= this.started)",
                "10.0 30.0 5.0 7.0 14.0 null 4.0");
}

TEST_F(Language, ChangeSinceTheBaysPreviousSession) {
  expect_column(
      "energy_kwh - last(t.energy_kwh by t.started for t in sessions where t.bay_id = this.bay_id and t.started < "
      "this.started)",
      "null 10.0 null null 0.0 null null");
}

TEST_F(Language, RankWithinAGroupAsACalculatedColumn) {
  expect_column("rank(energy_kwh among t.energy_kwh for t in sessions where t.bay_id = this.bay_id desc dense)",
                "2 1 1 1 1 null 1");
}

TEST_F(Language, RankOfARegionAmongAllWhateverFilterIsOn) {
  const std::string rank =
      "rank(revenue among revenue of g for g in distinct(stations.region) across stations.region desc dense)";
  // Coast 13.5 (Pier 13.5, Cove null), Upland 3.5, those without a station 2.0; no session leads to Lowland.
  expect("by stations.region show revenue, " + rank + " as r", "Coast|13.500|1\nUpland|3.500|2\nnull|2.000|3");
  expect("by stations.region show revenue, " + rank + " as r where stations.region <> \"Coast\"", "Upland|3.500|2");
}

TEST_F(Language, CountOfTheManySideAsACalculatedColumn) {
  expect_column("count(bays of this)", "2 1 1 1", "stations");
  expect_column("count(sessions of this)", "3 2 1 0", "stations");
}

TEST_F(Language, ClassFromThatCount) {
  const test::SmallModel model = network("",
                                         "  n_sessions = count(sessions of this)\n  class = case when n_sessions >= 3 "
                                         "then \"busy\" when n_sessions >= 1 then \"steady\" else \"quiet\" end\n");
  expect(model.open(), "by stations.class show count(stations) as n", "busy|1\nquiet|1\nsteady|2");
}

TEST_F(Language, ThreeBestRegionsByShareAsOneText) {
  expect("show list(g.region, \", \" for g in top 2 distinct(stations.region) by share of g) as best", "Coast, Upland");
}

TEST_F(Language, AverageOfGroupTotals) {
  // Pier 35, Ridge 14, Cove null, no station 4
  expect("show avg(g.kwh for g in group sessions by bays.station_id with kwh = sum(energy_kwh for rows)) as a",
         "17.666666666666668");
}

TEST_F(Language, WhatReadsAnOuterRowIsAnsweredForEachOfThem) {
  // 1 + 2 + … + 7: the bracketed number is that of the outer row, whatever row its slice is narrowed to.
  expect("show sum(min((s.id) of t for t in tariffs) for s in sessions) as n", "28");
}

TEST_F(Language, RowsOfNoRealAreAmongThemselves) {
  const test::SmallModel model(
      "table rows from csv \"rows.csv\" { key id integer  x real\n"
      "  before = last(r.id by r.id for r in rows where r.x is not distinct from this.x and r.id < this.id)\n}\n",
      {{"rows.csv", "id,x\n1,\n2,0.5\n3,\n4,0.5\n5,0.25\n"}});
  expect(model.open(), "by rows.id, rows.before show count(rows) as n", "1|null|1\n2|null|1\n3|1|1\n4|2|1\n5|null|1");
}

TEST_F(Language, RunningTotalAsAMeasure) {
  expect(
      "by days.day show let (d = max(day for days)) (energy across days where days.day <= d) as total",
      "2025-01-01|10.0\n2025-01-02|39.0\n2025-01-03|39.0\n2025-02-01|46.0\n2025-02-02|46.0\n2025-02-03|53.0\n2025-03-"
      "01|53.0");
}

TEST_F(Language, YearToDateWithTheFutureEmpty) {
  expect(
      "from days by days.month_name show if min(day for days) <= max(start_day for sessions across everything) then "
      "(energy during to_date(year)) as total",
      "January|39.0\nFebruary|53.0");
}

TEST_F(Language, PreviousValueOfASeries) {
  expect("by days.day show energy, energy - (energy during previous(day)) as change",
         "2025-01-01|10.0|null\n2025-01-02|29.0|19.0\n2025-02-01|7.0|null\n2025-02-03|7.0|null");
}

TEST_F(Language, AMissingLabelFilledIn) {
  expect("by visits.visit show max(coalesce(categories.description, \"unknown\") for visits) as label",
         "1|clean\n2|repair\n3|unknown\n4|unknown");
}

TEST_F(Language, ALinkOverThreeColumns) {
  expect("by categories.description show sum(cost for visits) as cost", "clean|100\nrepair|50\nnull|35");
}

// --- declarations ---------------------------------------------------------------------------------------------------

TEST_F(Language, ACalculatedTableIsStoredAndCanBeLinkedTo) {
  const test::SmallModel model = network("", "",
                                         "table regions = distinct(stations.region)\n"
                                         "link stations.region -> regions.region\n"
                                         "table busy = group sessions by bays.station_id with (n = count(rows), kwh = "
                                         "sum(energy_kwh for rows))\n"
                                         "table coast = top 1 (stations where region = \"Coast\") by installed\n");
  const Dataset dataset = model.open();
  expect(dataset, "by regions.region show count(regions) as n, energy",
         "Coast|1|35.0\nLowland|1|null\nUpland|1|14.0\nnull|0|4.0");
  expect(dataset, "by busy.station_id show sum(n for busy) as n, sum(kwh for busy) as kwh",
         "1|3|35.0\n2|2|14.0\n3|1|null\nnull|1|4.0");
  expect(dataset, "by coast.name show max(installed for coast) as d", "Cove|2022-12-31");
}

TEST_F(Language, AParameterMayBeSetForOneRun) {
  const test::SmallModel model = network("  dear = tariffs.price_per_kwh >= min_price\n");
  const std::string query = "by sessions.dear show count(sessions where tariffs.price_per_kwh < min_price) as cheap";
  expect(model.open(), query, "false|2\ntrue|0\nnull|0");
  Options options;
  options.reading.settings["min_price"] = "0.55";
  expect(model.open(options), query, "false|6\nnull|0");  // the stored column follows
  options.reading.settings = {{"min_prise", "1"}};
  EXPECT_EQ(test::messages(Dataset::open(model.path(), options).error()),
            "error: there is no parameter 'min_prise' to set [JR-213]\n  fix: did you mean 'min_price'?\n");
  options.reading.settings = {{"min_price", "cheap"}};
  EXPECT_EQ(test::codes(Dataset::open(model.path(), options).error()), "JR-213");
}

TEST_F(Language, AModelMayBeSplitOverFiles) {
  const test::SmallModel model = network("", "", "include \"more/measures.ridge\"\n");
  model.folder.write("more/measures.ridge",
                     "measure app = (energy where sessions.channel = \"app\")\ninclude \"../q.ridge\"\n");
  model.folder.write("q.ridge", "query apps { by stations.region show app }\n");
  expect(model.open(), "apps", "Coast|15.0\nUpland|7.0\nnull|4.0");
  // The store holds all files, and needs none of them.
  const auto from_store = Dataset::open(model.folder.path("model.jrs"));
  ASSERT_TRUE(from_store) << test::messages(from_store.error());
  expect(*from_store, "apps", "Coast|15.0\nUpland|7.0\nnull|4.0");
  model.folder.write("q.ridge", "query apps { by stations.regio show app }\n");
  const Diagnostics errors = model.errors();
  EXPECT_EQ(test::codes(errors), "JR-202");
  EXPECT_TRUE(errors[0].place.file.ends_with("q.ridge")) << errors[0].place.file;
  model.folder.write("q.ridge", "include \"more/measures.ridge\"\n");
  EXPECT_EQ(test::codes(model.errors()), "JR-214");
  std::filesystem::remove(model.folder.path("q.ridge"));
  EXPECT_EQ(test::codes(model.errors()), "JR-001");
}

TEST_F(Language, KeysOfSeveralColumnsAreUniqueTogether) {
  const test::SmallModel model = network();
  model.folder.write("categories.csv",
                     "site,lane,kind,description\nA,1,x,clean\nA,2,x,repair\nA,1,x,again\n,1,x,null\n,1,x,null\n");
  const Diagnostics warnings = model.open().warnings();
  ASSERT_EQ(test::codes(warnings), "JR-515") << test::messages(warnings);
  EXPECT_NE(warnings[0].message.find("row 3"), std::string::npos) << warnings[0].message;
}

// --- slices ---------------------------------------------------------------------------------------------------------

TEST_F(Language, RolesAndViaReadDaysByAnotherDate) {
  expect("by days.month_name show count(sessions) as begun, (count(sessions)) via end_date as ended",
         "January|4|4\nFebruary|3|2\nMarch|0|1");
  expect("by end_date.month show count(sessions) as ended", "1|4\n2|2\n3|1");
  expect("show count(sessions via end_date where days.month = 3) as n", "1");
}

TEST_F(Language, AcrossDropsFiltersAndWhereNeverReplacesThem) {
  expect("by stations.name show energy, (energy across stations) as all, (energy across everything) as everything",
         "Cove|null|53.0|53.0\nPier|35.0|53.0|53.0\nRidge|14.0|53.0|53.0\nnull|4.0|53.0|53.0");
  expect("show (energy where stations.region = \"Coast\") as coast where stations.region = \"Upland\"", "null");
  expect(
      "show (energy across stations.region where stations.region = \"Coast\") as coast where stations.region = "
      "\"Upland\"",
      "35.0");
}

TEST_F(Language, PeriodsMoveInTheCalendar) {
  expect(
      "show (energy during to_date(month)) as a, (energy during whole(year)) as b, (energy during previous(month)) as "
      "c, "
      "(energy during next(month)) as d, (energy during shift(-1 month)) as e, (energy during trailing(2 day)) as f "
      "where "
      "days.month = 2",
      "14.0|53.0|39.0|null|39.0|7.0");
  // A filter on a weekday stays: Thursday the 2nd of January.
  expect("show (energy during whole(month)) as a where days.day = date \"2025-01-03\"", "39.0");
  expect("show (energy during whole(month)) as a where days.day = date \"2025-01-02\" and days.weekday = 4", "29.0");
}

TEST_F(Language, OnlyAndGroupingTellWhatTheSliceLeaves) {
  expect(
      "by stations.region show only(stations.region) as r, only(stations.name) as n, grouping(stations.region) as g, "
      "energy "
      "total grand",
      "Coast|Coast|null|0|35.0\nLowland|Lowland|Moor|0|null\nUpland|Upland|Ridge|0|14.0\nnull|null|null|0|4.0\n"
      "grand:|null|null|1|53.0");
}

TEST_F(Language, TiesAtTheCutAreKeptAndSaidSo) {
  const std::string query =
      "show count(top 2 sessions by energy_kwh asc) as n, count(top 4 sessions by energy_kwh asc) as m";
  // 4, 5, then two of 7
  expect(query, "2|4");
  EXPECT_TRUE(ask(dataset_, {query})->notes.empty());
  const auto answer = ask(dataset_, {"show count(top 3 sessions by energy_kwh asc) as n"});
  EXPECT_EQ(test::rows_of(*answer), "4");
  ASSERT_EQ(answer->notes.size(), 1U);
  EXPECT_NE(answer->notes[0].find("top 3"), std::string::npos);
  EXPECT_NE(render(report(*answer)).find("ties at the cut of `top 3` are all kept"), std::string::npos);
}

TEST_F(Language, SetsOfWhatARoleLeadsTo) {
  const Dataset dataset = model_.open(on_a_day());
  for (const char* set : {"distinct(end_date.year, end_date.month_name)", "distinct(end_date.month)"}) {
    const std::string alone(set);
    const std::string over = alone.substr(0, alone.size() - 1) + " for sessions)";
    const std::string show = "show count(g in {0}) as n, max(energy of g for g in {0}) as most";
    expect(dataset, fmt::format(fmt::runtime(show), alone),
           test::answer(dataset, fmt::format(fmt::runtime(show), over)));
  }
  // A filter on a table behind the dropped one chooses among its rows: it is told, where a key is meant.
  const auto filtered = ask(dataset, {"show (energy across bays) as e where stations.region = \"Coast\""});
  ASSERT_TRUE(filtered.has_value());
  EXPECT_EQ(test::codes(filtered->warnings), "JR-415");
  EXPECT_TRUE(ask(dataset, {"by stations.region show (energy across bays) as e"})->warnings.empty());
  EXPECT_TRUE(ask(dataset, {"show (energy across stations) as e where days.month = 1"})->warnings.empty());
}

TEST_F(Language, QueriesMayDraftMeasures) {
  expect("with measure revenue = energy by stations.region show price, share",
         "Coast|1|0.660377358490566\nUpland|1|"
         "0.2641509433962264\nnull|1|0.07547169811320754");
  const Question draft{"by stations.region show price", {}, {"measure energy = count(sessions)"}};
  EXPECT_EQ(test::rows_of(*ask(dataset_, draft)), "Coast|3.375\nUpland|1.75\nnull|2");
  expect_error("with measure revenue = price show revenue", "JR-211");
  const test::SmallModel stored = network("", "  sold = energy of this\n");
  const auto refused = ask(stored.open(), {"with measure energy = count(sessions) show energy"});
  ASSERT_FALSE(refused);
  EXPECT_EQ(test::codes(refused.error()), "JR-413");
}

// Names of values in conditions and keys are written out: it is the columns behind them that tell which tables they reach.
TEST_F(Language, NamesInConditionsAndKeysStandForTheirColumns) {
  const auto answer = [&](const std::string& query) { return test::answer(dataset_, query); };
  expect("show energy where let (m = days.month, twice = m + m) (twice = 4 and m > 1)",
         answer("show energy where days.month = 2"));
  expect("show energy where days.year = 2025 or let (r = stations.region) (r = \"Coast\" and r <> \"x\")",
         answer("show energy where days.year = 2025 or stations.region = \"Coast\""));
  expect("by let (m = days.month) (m * m) as square show energy",
         answer("by days.month * days.month as square show energy"));
  expect("show (energy where let (m = max(bay_id for bays)) (bays.bay_id = m)) as a",
         answer("show (energy where bays.bay_id = max(bay_id for bays)) as a"));
  expect("show sum(let (k = energy_kwh) (k * k) for sessions) as a",
         answer("show sum(energy_kwh * energy_kwh for sessions) as a"));
  expect_error("by visits.cost show energy where let (r = visits.cost) (r > 1)", "JR-403 JR-403",
               "does not reach sessions");
  expect_error("show energy where let (r = visits.cost) (days.month = 1)", "JR-417", "each name of `let` is used");
  expect_error("show (energy where let (s = stations where region = \"Coast\") (days.month = count(s))) as a", "JR-417",
               "can't name a set of rows");
  std::string doubled = "let (v0 = days.month";
  for (int i = 1; i < 30; ++i)
    doubled += ", v" + std::to_string(i) + " = v" + std::to_string(i - 1) + " + v" + std::to_string(i - 1);
  expect_error("show energy where " + doubled + ") (v29 > 1)", "JR-417", "not too large");
}

TEST_F(Language, WhatCannotBeMeantIsAnErrorThatTeaches) {
  expect_error("show max(revenue for s in stations) as x", "JR-401", "`revenue of s` or `revenue of slice`");
  expect_error("by stations.region show count(tariffs) as n", "JR-403", "across stations.region");
  expect_error("show energy where stations.region = \"Coast\" or tariffs.plan = \"day\" and visits.cost > 1", "JR-404");
  expect_error("show (energy across stations) as a where stations.region = \"Coast\" or tariffs.plan = \"day\"",
               "JR-411", "only a part of the filter");
  expect_error("show (energy during to_date(year)) as a where sessions.start_day > date \"2025-01-01\"", "JR-411",
               "a date of the fact itself");
  expect_error("show (energy during to_date(hour)) as a", "JR-410", "day, week, month");
  expect_error("show max(revenue of g for g in group (top 2 sessions by energy_kwh) by channel) as x", "JR-409", "top");
  expect_error("show sum(x for union(sessions, bays)) as a", "JR-307");
  expect_error("show sum(g.regio for g in distinct(stations.region)) as a", "JR-202", "did you mean 'region'?");
  expect_error("show (energy where 1 = 1) as a", "JR-404", "if CONDITION");
  expect_error("show let (energy = 1) energy as a", "JR-203");
  expect_error("show count(sessions of s for s in bays) as a", "JR-204", "sum(count(sessions of s) for s in");
}

TEST_F(Language, AFilterThatStaysOnALinkColumnIsAWarning) {
  const std::string query = "show (energy across stations) as a where bays.station_id = 1";
  const auto answer = ask(dataset_, {query});
  ASSERT_TRUE(answer);
  ASSERT_EQ(test::codes(answer->warnings), "JR-412");
  EXPECT_NE(test::messages(answer->warnings).find("across (stations, bays.station_id)"), std::string::npos);
  Options strict;
  strict.reading.strict = true;
  const auto refused = ask(model_.open(strict), {query});
  ASSERT_FALSE(refused);
  EXPECT_EQ(test::codes(refused.error()), "JR-412");
}

// --- how it is done -------------------------------------------------------------------------------------------------

TEST_F(Language, ExplainTellsWhatRunsRowByRow) {
  const auto grouped = explain(dataset_, {"by stations.name show max(revenue of s for s in stations) as best"});
  ASSERT_TRUE(grouped);
  EXPECT_TRUE(grouped->row_by_row.empty());
  const auto slow = explain(
      dataset_,
      {"show sum(count(t in sessions where t.energy_kwh < s.energy_kwh + t.idle_minutes) for s in sessions) as x"});
  ASSERT_TRUE(slow);
  ASSERT_EQ(slow->row_by_row.size(), 1U);
  EXPECT_EQ(slow->row_by_row[0].substr(0, 18), "<query>:1:10: coun");
}

// Ranking many groups among each other costs two passes over the fact, not one for each group.
TEST_F(Language, ARankAmongTheSameValuesForAllIsLookedUp) {
  for (const std::string rank : {"rank(revenue among revenue of s for s in stations across stations desc)",
                                 "rank(revenue among revenue of g for g in distinct(stations.name) across stations)"}) {
    const auto plan = explain(dataset_, {"by stations.name show " + rank + " as place"});
    ASSERT_TRUE(plan) << test::messages(plan.error());
    EXPECT_TRUE(plan->row_by_row.empty());
    EXPECT_EQ(std::count_if(plan->steps.begin(), plan->steps.end(),
                            [](const ExplainStep& step) { return step.way == ExplainWay::grouped; }),
              2)
        << rank;
  }
}

TEST_F(Language, SqlIsWrittenForEachAndSqliteAgrees) {
  for (const std::string query :
       {"by stations.region show share, price total grand",
        "by days.day show let (d = max(day for days)) (energy across days where days.day <= d) as t",
        "show list(g.region, \", \" for g in top 2 distinct(stations.region) by share of g) as best"}) {
    const auto agreement = against_sqlite(dataset_, {query});
    ASSERT_TRUE(agreement) << test::messages(agreement.error());
    EXPECT_TRUE(agreement->same()) << agreement->statement;
    EXPECT_GT(agreement->cells, 0U);
    EXPECT_EQ(*sql(dataset_, {query}), agreement->statement);
  }
}

// Wherever an expression may stand, a value of it that does not fit is told, and not taken for null.
TEST(Overflow, IsToldWhereverItStands) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  g text  x integer }\ntable u from csv \"u.csv\" { key id integer "
      "}\n"
      "link t.id -> u.id",
      {{"t.csv", "id,g,x\n1,a,9223372036854775807\n2,a,9223372036854775807\n3,b,1\n"}, {"u.csv", "id\n1\n"}});
  const Dataset dataset = model.open();
  for (const std::string& query :
       std::vector<std::string>{"show a = sum({r} for r in t)",
                                "by t.g show n = count(t) having sum(x for t) > 0",
                                "by t.g show n = count(t) having sum(x for t) is null",
                                "show a = first(r.g by {r} for r in t)",
                                "show a = last(r.g by (r.g, {r} desc) for r in t)",
                                "show a = count(r in group t by ({row} as k))",
                                "show a = count(r in top 1 t by {row})",
                                "show a = count(r in top 1 (t with (f = 1)) by {row} asc)",
                                "show a = list(r.g, \"\" for r in (t sorted by {row}))",
                                "show a = count(r in t where {r} > 0)",
                                "show a = exists(r in t where {r} > 0)",
                                "show a = count({r} for r in t)",
                                "show a = max({r} for r in t)",
                                "show a = count(distinct {r} for r in t)",
                                "show a = rank(5 among {r} for r in t)",
                                "show a = sum(rank({v} among r.x for r in t) for v in t)",
                                "show a = every({r} > 0 for r in t)",
                                "show a = quantile(0.5, {r} for r in t)",
                                "show a = sum(count(r in t where r.x = {v}) for v in t)",
                                "show a = sum(count(r in t where {r} = v.x) for v in t)",
                                "show a = sum(count(r in t where r.x < {v}) for v in t)",
                                "show a = sum(count(r in t where {r} is not distinct from v.x) for v in t)",
                                "show a = ((count(r in t)) where t.x < sum(x for t))",
                                "show a = ((count(r in t)) where {t} > 0)",
                                "show a = count(r in union((t with (f = {row})), (t with (f = 1))))",
                                "show a = coalesce(sum(x for t), 1)",
                                "show a = let (v = sum(x for t)) if v > 0 then 1 else 2",
                                "show a = sum(x for t) in (1, 2)",
                                "show a = sum(x for t) is null",
                                "show a = greatest(1, sum(x for t))",
                                "show a = sum(case when {r} > 0 then 1 end for r in t)",
                                "show a = count(r in group t by (g as k) with (n = sum(x for rows)) where r.n > 0)",
                                "show a = count(r in (distinct(t.g)) where (sum(x for t)) of r > 0)",
                                "show a = first(r.k by r.n for r in group t by (g as k) with (n = sum(x for rows)))",
                                "show a = count(r in top 1 (group t by (g as k) with (n = sum(x for rows))) by r.n)"}) {
    std::string text = query;
    // {r}: what overflows, of the row r; {row}: of a row without a name.
    for (const std::string& row : std::vector<std::string>{"row", "r", "v", "t"}) {
      const std::string x = row == "row" ? "x" : row + ".x";
      for (std::size_t at = 0; (at = text.find("{" + row + "}")) != std::string::npos;)
        text.replace(at, row.size() + 2, "(" + x + " * " + x + " * " + x + ")");
    }
    for (const Plan plan : {Plan::engine, Plan::naive}) {
      const auto answer = ask(dataset, {text, {}, {}, plan});
      ASSERT_FALSE(answer) << text << "\n" << test::rows_of(*answer);
      EXPECT_EQ(answer.error()[0].code, "JR-701") << text << "\n" << test::messages(answer.error());
    }
  }
}

}  // namespace
}  // namespace juniper::language_test
