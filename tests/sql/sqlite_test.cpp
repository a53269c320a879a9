// The database that answers are held against: what it registers, what it reads, what it says.
#include "sql/sqlite.h"

#include <gtest/gtest.h>

#include "base/calendar.h"
#include "engine/query/ask.h"
#include "juniper/sql.h"
#include "sql/aliases.h"
#include "sql/translate.h"
#include "support/support.h"

namespace juniper::sqlite_test {
namespace {

constexpr Type integer{TypeKind::integer, 0};
constexpr Type real{TypeKind::real, 0};
constexpr Type text{TypeKind::text, 0};
const Options no_options;
const engine::Watch unwatched(no_options);

Value of(const std::string& expression, Type type) {
  auto database = sql_engine::Sqlite::open();
  const auto rows = database->run("SELECT " + expression, {type}, unwatched);
  EXPECT_TRUE(rows) << expression << test::messages(rows.error());
  return rows ? (*rows)[0][0] : Value();
}

Value number(std::int64_t value) {
  return Value::of(static_cast<int128>(value));
}

TEST(Sqlite, HasTheFunctionsThatItLacks) {
  EXPECT_EQ(of("upper_text('straße é')", text), Value::of(std::string("STRASSE É")));
  EXPECT_EQ(of("lower_text('ÉA')", text), Value::of(std::string("éa")));
  EXPECT_EQ(of("floor_divide(-7, 2)", integer), number(-4));
  EXPECT_EQ(of("round_real(2.345, 1)", real), Value::of(2.3));
  const std::int64_t day = base::days_from_civil(2025, 3, 31);
  EXPECT_EQ(of("start_of(" + std::to_string(day) + ", 3)", integer), number(base::days_from_civil(2025, 1, 1)));
  EXPECT_EQ(of("end_of(" + std::to_string(day) + ", 2)", integer), number(day));
  EXPECT_EQ(of("moved(" + std::to_string(day) + ", -1, 2)", integer), number(base::days_from_civil(2025, 2, 28)));
  EXPECT_EQ(of("moved(" + std::to_string(day) + ", 9000, 4)", integer), Value());
  EXPECT_EQ(of("years_between(" + std::to_string(day - 365) + ", " + std::to_string(day) + ")", real), Value::of(1.0));
  EXPECT_EQ(of("months_between(NULL, 3)", real), Value());
  EXPECT_EQ(of("start_of(NULL, 3)", integer), Value());
}

TEST(Sqlite, WeeksBelongToTheYearOfTheirThursday) {
  for (const auto& [year, month, day, week] :
       std::vector<std::tuple<int, unsigned, unsigned, int>>{{2024, 12, 29, 52},
                                                             {2024, 12, 30, 1},
                                                             {2025, 1, 5, 1},
                                                             {2025, 1, 6, 2},
                                                             {2021, 1, 3, 53},
                                                             {2020, 12, 28, 53}}) {
    EXPECT_EQ(of("iso_week(" + std::to_string(base::days_from_civil(year, month, day)) + ")", integer), number(week))
        << year << "-" << month << "-" << day;
  }
}

TEST(Sqlite, HasTheAggregatesThatItLacks) {
  const std::string values = " FROM (SELECT 1 AS x UNION ALL SELECT 2 UNION ALL SELECT NULL UNION ALL SELECT 4)";
  auto database = sql_engine::Sqlite::open();
  const auto one = [&](const std::string& aggregate, Type type) {
    return (*database->run("SELECT " + aggregate + values, {type}, unwatched))[0][0];
  };
  EXPECT_EQ(one("product(x)", integer), number(8));
  EXPECT_EQ(one("quantile(x, 0.5)", real), Value::of(2.0));
  EXPECT_EQ(one("quantile(x, 0.25)", real), Value::of(1.5));
  EXPECT_EQ(one("quantile(x, 1.0)", real), Value::of(4.0));
  EXPECT_NEAR(one("variance(x, 1)", real).real(), 7.0 / 3, 1e-12);
  EXPECT_NEAR(one("variance(x, 0)", real).real(), 14.0 / 9, 1e-12);
  const auto none = database->run("SELECT product(x), quantile(x, 0.5), variance(x, 0) FROM (SELECT NULL AS x)",
                                  {real, real, real}, unwatched);
  EXPECT_EQ((*none)[0], (std::vector<Value>{Value(), Value(), Value()}));
  const auto single =
      database->run("SELECT variance(x, 1), variance(x, 0) FROM (SELECT 5 AS x)", {real, real}, unwatched);
  EXPECT_EQ((*single)[0], (std::vector<Value>{Value(), Value::of(0.0)}));
}

TEST(Sqlite, WhatItRefusesIsToldWithTheStatement) {
  auto database = sql_engine::Sqlite::open();
  const auto wrong = database->run("SELECT nothing FROM nowhere", {integer}, unwatched);
  ASSERT_FALSE(wrong);
  EXPECT_EQ(wrong.error()[0].code, "JR-705");
  EXPECT_NE(wrong.error()[0].suggestion.find("nowhere"), std::string::npos);
}

TEST(Sqlite, WhatTakesTooLongIsCalledOff) {
  auto database = sql_engine::Sqlite::open();
  const auto endless =
      database->run("WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c) SELECT MAX(i) FROM c", {integer},
                    unwatched, std::chrono::milliseconds(20));
  ASSERT_FALSE(endless);
  EXPECT_EQ(endless.error()[0].code, "JR-711");
  EXPECT_TRUE(database->run("SELECT 1", {integer}, unwatched));
}

TEST(Sqlite, NamesAreQuoted) {
  EXPECT_EQ(sql_engine::quoted_name("a\"b"), "\"a\"\"b\"");
  const test::SmallModel model(
      "table `odd \"name` from csv \"o.csv\" { key id integer  `select` text  `row` decimal(2)  when datetime }\n"
      "measure total = sum(`row` for `odd \"name`)\n",
      {{"o.csv", "id,select,row,when\n1,it's,1.25,2025-01-01 08:00:00\n2,,2.50,\n"}});
  const auto agreement = against_sqlite(
      model.open(), {"by `odd \"name`.`select` show total, max(hour(r.when) for r in `odd \"name`) as h total grand"});
  ASSERT_TRUE(agreement) << test::messages(agreement.error());
  EXPECT_TRUE(agreement->same()) << agreement->statement;
  EXPECT_EQ(agreement->rows, 3U);
}

// How often a statement names a table behind its parts, where each group of the result would read it anew.
std::size_t times_named(const std::string& statement, const std::string& table) {
  const std::string groups = statement.substr(statement.rfind("\nSELECT \"level\""));
  std::size_t times = 0;
  for (std::size_t at = groups.find(table); at != std::string::npos; at = groups.find(table, at + 1)) ++times;
  return times;
}

TEST(Sqlite, AnAggregateReadsItsTableOnceNotForEachGroup) {
  const std::string path = std::string(JUNIPER_SOURCE_DIR) + "/demo/small/charging.ridge";
  const test::TempFolder folder;
  Options options;
  options.store = folder.path("charging.jrs");
  const auto dataset = Dataset::open(path, options);
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  for (const std::string query : {
           "by days.month show revenue, price, active_cards, longest_idle",
           "by days.day, stations.region show (revenue during to_date(year)) as so_far",
           "by days.month, stations.station_id show (active_cards during shift(-1 year)) as before",
           "by stations.region show sum(revenue of c for c in top 5 cards by revenue of c) as five",
           "by days.year show avg(d.n for d in group sessions by start_day with n = count(rows)) as mean",
           "by stations.region show count(s in sessions where exists(o in sessions where o.card_id = s.card_id and "
           "o.started < s.started)) as again",
           "by stations.region show rank(revenue among revenue of g for g in distinct(stations.region) across "
           "stations.region desc) as place, last(energy_kwh by started for sessions) as latest",
           "by days.year show list(g.region, \", \" for g in top 3 distinct(stations.region) by revenue of g) as best",
       }) {
    const auto agreement = against_sqlite(*dataset, {query});
    ASSERT_TRUE(agreement) << query << test::messages(agreement.error());
    EXPECT_TRUE(agreement->same()) << agreement->statement;
    EXPECT_LE(times_named(agreement->statement, "\"sessions\""), 1U) << agreement->statement;
  }
}

TEST(Aliases, QuotedTextsAreNoAliases) {
  using sql_engine::open_columns;
  using Columns = std::set<std::string>;
  EXPECT_EQ(open_columns("t1.\"a\" + t12.f0 > 't3.x' || \"t4\".x"), (Columns{"t1.\"a\"", "t12.f0"}));
  EXPECT_EQ(open_columns("(SELECT t2.x FROM part1 t2 WHERE t2.c0 IS t1.\"a \"\" t5.b\")"),
            (Columns{"t1.\"a \"\" t5.b\""}));
  EXPECT_EQ(open_columns("'it''s t1.a' = \"t2.a\" AND at1.b = t1b.c"), Columns{});
  EXPECT_EQ(sql_engine::substituted("t1.k1 + t1.k11 + 't1.k1' + tt1.k1", {{"t1.k1", "t2.x"}}),
            "t2.x + t1.k11 + 't1.k1' + tt1.k1");
  EXPECT_EQ(sql_engine::with_own_aliases({"SELECT t7.a", "FROM x t7, y t3 WHERE t3.b = 't7'"}),
            (std::vector<std::string>{"SELECT t1.a", "FROM x t1, y t2 WHERE t2.b = 't7'"}));
}

}  // namespace
}  // namespace juniper::sqlite_test
