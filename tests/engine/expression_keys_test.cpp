// Queries that group by expressions: in all three ways, and as a stored column with the same expression groups.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "juniper/ask.h"
#include "juniper/describe.h"
#include "juniper/explain.h"
#include "juniper/sql.h"
#include "support/support.h"

namespace juniper::expression_keys_test {
namespace {

constexpr const char* text = R"(param limit = 7
table sessions from csv "sessions.csv" {
  key id integer  bay_id integer  day date  started datetime  kwh decimal(1)  channel text  kw real  big integer
STORED}
table bays from csv "bays.csv" { key bay_id integer  region text }
table days from csv "days.csv" { key day date  month integer }
link sessions.bay_id -> bays.bay_id
link sessions.day -> days.day
calendar days.day periods (month)
measure n = count(sessions)
measure energy = sum(kwh for sessions)
measure longest = max(s.id for s in sessions where s.kwh > (energy of slice) / 100)
)";

// With stored columns of `stored`; nulls in every column, keys without a match.
test::SmallModel network(const std::string& stored = "", int rows = 300) {
  std::mt19937_64 random(test::test_seed(3));
  const auto below = [&](std::uint64_t count) { return static_cast<int>(random() % count); };
  std::string sessions = "id,bay_id,day,started,kwh,channel,kw,big\n";
  for (int i = 0; i < rows; ++i) {
    const int day = below(60);
    const std::string date = fmt::format("2025-{:02}-{:02}", day / 28 + 1, day % 28 + 1);
    const auto or_null = [&](std::string value) { return below(20) == 0 ? "" : value; };
    sessions += fmt::format("{},{},{},{},{},{},{},{}\n", i, or_null(std::to_string(below(45))), or_null(date),
                            or_null(fmt::format("{} {:02}:{:02}:00", date, below(24), below(60))),
                            or_null(fmt::format("{}.{}", below(70), below(10))),
                            or_null(std::array{"app", "card", "phone"}[static_cast<std::size_t>(below(3))]),
                            or_null(fmt::format("{}", below(9) * 0.5)), or_null("4611686018427387904"));
  }
  std::string bays = "bay_id,region\n";
  for (int bay = 0; bay < 40; ++bay)
    bays += fmt::format("{},{}\n", bay, bay % 7 == 0 ? "" : bay % 3 == 0 ? "Coast" : "Upland");
  std::string days = "day,month\n";
  for (int day = 0; day < 56; ++day)
    days += fmt::format("2025-{:02}-{:02},{}\n", day / 28 + 1, day % 28 + 1, day / 28 + 1);
  std::string with = text;
  with.replace(with.find("STORED"), 6, stored);
  return {with, {{"sessions.csv", sessions}, {"bays.csv", bays}, {"days.csv", days}}};
}

std::string in_three_ways(const Dataset& dataset, const std::string& query) {
  const std::string answer = test::answer(dataset, query);
  Question naive{query, {}};
  naive.plan = Plan::naive;
  const auto by_naive = ask(dataset, naive);
  EXPECT_TRUE(by_naive) << test::messages(by_naive.error());
  if (by_naive) {
    EXPECT_EQ(test::rows_of(*by_naive), answer) << query;
  }
  const auto agreement = against_sqlite(dataset, {query, {}});
  EXPECT_TRUE(agreement && agreement->same()) << query;
  return answer;
}

// Where each stands in the row of the sessions: by one column of few and of many codes, by several, behind no link.
const std::vector<std::string> of_sessions{
    "month(day)",
    "hour(started)",
    "upper(channel)",
    "trunc(kwh)",
    "kwh * 2",
    "kw * 2",
    "kwh > limit",
    "coalesce(channel, \"none\")",
    "if kwh > 30 then \"high\" else \"low\"",
    "start_of(day, month)",
    "case when kwh >= 30 and channel = \"app\" then \"a\" when kwh < 5 then null else \"b\" end",
    "case when kw > 2 then kwh else 0.5 end",
    "channel || \"-\" || coalesce(channel, \"\")",
    "bay_id mod 7 - 3",
    "date(started)",
    "time(started)",
    "kwh is null"};

TEST(ExpressionKeys, GroupAsAStoredColumnDoes) {
  std::string stored;
  for (std::size_t i = 0; i < of_sessions.size(); ++i) stored += fmt::format("  c{} = {}\n", i, of_sessions[i]);
  // Few rows for the naive evaluator, and several blocks of them.
  const Dataset few = network(stored).open();
  const Dataset dataset = network(stored, 9'000).open();
  for (std::size_t i = 0; i < of_sessions.size(); ++i) {
    SCOPED_TRACE(of_sessions[i]);
    // The same expression over the slice's columns.
    std::string expression = of_sessions[i];
    for (const char* const column : {"started", "channel", "kwh", "bay_id", "day", "kw"}) {
      std::string qualified;
      for (std::size_t at = 0; at < expression.size();) {
        const std::size_t found = expression.find(column, at);
        const std::size_t end = found + std::string(column).size();
        const auto is_word = [&](std::size_t place) {
          return place < expression.size() && (std::isalnum(static_cast<unsigned char>(expression[place])) != 0 ||
                                               expression[place] == '_' || expression[place] == '.');
        };
        if (found == std::string::npos) {
          qualified += expression.substr(at);
          break;
        }
        const bool whole = !is_word(end) && (found == 0 || !is_word(found - 1));
        qualified += expression.substr(at, found - at) + (whole ? "sessions." : "") + column;
        at = end;
      }
      expression = qualified;
    }
    for (const char* const more :
         {"show n, energy", "show n, longest", "show energy where key is not null having n > 9 total grand",
          "show n, (n across everything) as all sort key desc limit 4"}) {
      const std::string clauses = more;
      const std::string by_expression = "by " + expression + " as key, bays.region " + clauses;
      std::string by_column = fmt::format("by sessions.c{} as key, bays.region {}", i, clauses);
      EXPECT_EQ(test::answer(dataset, by_expression), test::answer(dataset, by_column)) << by_expression;
      in_three_ways(few, by_expression);
    }
  }
}

// Rows without a match have the value that the expression has of nulls, as an outer join gives it.
TEST(ExpressionKeys, ReadColumnsBehindLinksOfTheRow) {
  const Dataset dataset = network().open();
  for (const char* const key :
       {"coalesce(bays.region, \"nowhere\")", "upper(bays.region)", "bays.region is null", "days.month * 10",
        "case when bays.region = \"Coast\" and days.month = 1 then \"winter coast\" else sessions.channel end",
        "coalesce(sessions.channel, bays.region, \"neither\")"}) {
    in_three_ways(dataset, fmt::format("by {} as key show n, energy", key));
    in_three_ways(dataset, fmt::format("by {} as key, sessions.channel show n, longest total key, grand", key));
  }
  EXPECT_EQ(test::answer(dataset, "by bays.region is null as lost show n where lost"),
            test::answer(dataset, "show true as lost, n where bays.region is null"));
}

TEST(ExpressionKeys, AreNamedInOtherClauses) {
  const Dataset dataset = network().open();
  in_three_ways(dataset,
                "by trunc(sessions.kwh / 10) as tens, bays.region as region show n, grouping(tens) as whole, "
                "grouping(region) as g "
                "where tens between 1 and 4 having tens <> 2 and bays.region is not null and n > 3 total tens, grand");
  // Of a period, a key over the calendar is moved as its columns are.
  in_three_ways(dataset, "by days.month * 10 as tenfold show n, (n during shift(-1 month)) as before");
  in_three_ways(dataset, "by days.month * 10 as tenfold show n / (n across days.month) as part");
  // The model keeps them, with what they read.
  const test::SmallModel saved = network(
      "}\nquery bands { by trunc(sessions.kwh / 10) as tens show n }\ntable more from csv \"bays.csv\" { bay_id "
      "integer ");
  const Dataset with_query = saved.open();
  EXPECT_EQ(test::answer(with_query, "bands"), test::answer(with_query, "by trunc(sessions.kwh / 10) as tens show n"));
}

std::string said(const Dataset& dataset, const std::string& query) {
  const auto answer = ask(dataset, {query, {}});
  return answer ? "answered" : test::codes(answer.error());
}

TEST(ExpressionKeys, WhatMakesNoGroupsIsTold) {
  const Dataset dataset = network("", 50).open();
  EXPECT_EQ(said(dataset, "by trunc(sessions.kwh) show n"), "JR-414");
  EXPECT_EQ(said(dataset, "by 1 + limit as one show n"), "JR-404");
  EXPECT_EQ(said(dataset, "by n + 1 as more show n"), "JR-405");
  EXPECT_EQ(said(dataset, "by max(kwh for sessions) as more show n"), "JR-405");
  EXPECT_EQ(said(dataset, "by trunc(sessions.kwh) as k, k + 1 as l show n"), "JR-202");
  EXPECT_EQ(said(dataset, "by trunc(sessions.kwh) as limit show n where limit > 1"), "JR-212");
  EXPECT_EQ(said(dataset, "by trunc(sessions.kwh) as n show n"), "JR-203");
  EXPECT_EQ(said(dataset, "by trunc(sessions.kwh) as k show n having other = 1"), "JR-204");
  EXPECT_EQ(said(dataset, "by length(bays.region) + sessions.bay_id as k show count(bays) as bays"), "JR-404");
  // A number that fits no column is no key, but only in a row that is asked for.
  EXPECT_EQ(said(dataset, "by sessions.big * 4 as k show n"), "JR-701");
  EXPECT_EQ(said(dataset, "by sessions.big * sessions.big * sessions.big as k show n"), "JR-701");
  in_three_ways(dataset, "by sessions.big * 4 as k show n where sessions.big is null");
}

// A condition that does not fit chooses no literal: the row is neither of one group nor of another.
TEST(ExpressionKeysOverflow, AConditionThatDoesNotFitIsAnErrorInEveryWay) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  a integer  b integer }\nmeasure n = count(t)\n",
      {{"t.csv", "id,a,b\n1,9000000000000000000,9000000000000000000\n2,1,1\n3,5,7\n4,3,2\n"}});
  const Dataset dataset = model.open();
  for (const std::string product : {"t.a * t.a * t.b * t.b", "t.a * t.a * t.a * t.a"}) {
    const std::string by = "by case when " + product + " > 10 then \"x\" else \"y\" end as k show n";
    for (const Plan plan : {Plan::engine, Plan::naive}) {
      Question question{by};
      question.plan = plan;
      EXPECT_EQ(test::codes(ask(dataset, question).error()), "JR-701") << by;
      question.where = {"t.id > 1"};
      const auto answer = ask(dataset, question);
      ASSERT_TRUE(answer) << test::messages(answer.error());
      EXPECT_EQ(test::rows_of(*answer), "x|2\ny|1") << by;
    }
  }
}

}  // namespace
}  // namespace juniper::expression_keys_test
