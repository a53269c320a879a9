// Expressions that mean different things have different canonical texts: plans share what has one text, and stores take
// a column of the same text for unchanged.
#include <gtest/gtest.h>

#include <map>
#include <string>
#include <vector>

#include "juniper/model.h"
#include "language/checked.h"
#include "model/access.h"
#include "support/support.h"

namespace juniper::canonical_test {
namespace {

// Two tables with every kind of link between them: by different keys, by several columns, with roles, and over a third.
constexpr auto tables = R"(
param low = 41
param high = 42
table sessions from csv "s.csv" {
  key id integer  a integer  b integer  kwh decimal(2)  price real  card text  day date  begun datetime
}
table stations from csv "t.csv" { key a integer  key b integer  name text  opened date  area_a integer }
table areas from csv "r.csv" { key a integer  key b integer  name text }
table days from csv "d.csv" { key day date  year integer }
link sessions.a -> stations.a
link sessions.a -> stations.b as swapped
link sessions.b -> stations.a as other
link sessions.(a, b) -> stations.(a, b) as both
link sessions.(a, b) -> stations.(b, a) as crossed
link stations.area_a -> areas.a
link stations.area_a -> areas.b as far
link sessions.day -> days.day
link sessions.day -> days.day as billed
calendar days.day periods (year)
)";

// Every expression stands here once, or comes from a product whose parts all differ.
std::vector<std::string> expressions() {
  std::vector<std::string> all;
  const std::vector<std::string> columns{"kwh",
                                         "id",
                                         "a",
                                         "b",
                                         "stations.a",
                                         "stations.b",
                                         "swapped.a",
                                         "swapped.b",
                                         "other.a",
                                         "both.a",
                                         "crossed.a",
                                         "areas.a",
                                         "areas.b",
                                         "low",
                                         "high",
                                         "1",
                                         "1.0",
                                         "1e0",
                                         "- 1",
                                         "id + 1",
                                         "1 + id",
                                         "id - 1",
                                         "id * 1",
                                         "id / 1",
                                         "id div 1",
                                         "id mod 1",
                                         "- id",
                                         "abs(id)",
                                         "sign(id)",
                                         "length(card)",
                                         "year(day)",
                                         "month(day)",
                                         "quarter(day)",
                                         "week(day)",
                                         "weekday(day)",
                                         "day(day)",
                                         "hour(begun)",
                                         "minute(begun)",
                                         "second(begun)",
                                         "least(id, a)",
                                         "greatest(id, a)",
                                         "coalesce(id, a)",
                                         "round(kwh)",
                                         "round(kwh, 1)",
                                         "floor(kwh)",
                                         "ceil(kwh)",
                                         "trunc(kwh)",
                                         "sqrt(kwh)",
                                         "exp(kwh)",
                                         "ln(kwh)",
                                         "days_between(day, stations.opened)",
                                         "case when a = 1 then id end",
                                         "case when a = 1 then id else 0 end",
                                         "case when a <> 1 then id end",
                                         "case when a < 1 then id end",
                                         "case when a <= 1 then id end",
                                         "case when a is null then id end",
                                         "case when a in (1, 2) then id end",
                                         "case when a in (1, 3) then id end",
                                         "case when a = 1 and b = 1 then id end",
                                         "case when a = 1 or b = 1 then id end",
                                         "case when not (a = 1) then id end"};
  for (const char* const aggregate :
       {"sum", "avg", "min", "max", "count", "product", "median", "stddev", "variance", "stddev_pop", "variance_pop"}) {
    for (const std::string& column : columns) all.push_back(std::string(aggregate) + "(" + column + " for sessions)");
  }
  for (const char* const date : {"day", "start_of(day, week)", "start_of(day, month)", "start_of(day, year)",
                                 "end_of(day, week)", "end_of(day, month)", "add_days(day, 1)", "add_days(day, 2)",
                                 "add_months(day, 1)", "add_years(day, 1)", "date(begun)", "today()"}) {
    for (const char* const aggregate : {"min", "max"})
      all.push_back(std::string(aggregate) + "(" + date + " for sessions)");
  }
  for (const char* const text :
       {"card", "upper(card)", "lower(card)", "trim(card)", "substring(card, 1, 1)", "substring(card, 1, 2)",
        "substring(card, 1)", "replace(card, \"a\", \"b\")", "replace(card, \"b\", \"a\")", "card || card",
        "stations.name", "swapped.name", "areas.name", "\"a b\"", "\"a\\\" b\""}) {
    for (const char* const rest : {"", " by id", " by id desc", " by a", " by kwh", " by stations.name"})
      all.push_back("first(" + std::string(text) + (*rest == '\0' ? " by b" : rest) + " for sessions)");
    all.push_back("last(" + std::string(text) + " by id for sessions)");
    for (const char* const separator : {",", ";", ""})
      all.push_back("list(" + std::string(text) + ", \"" + separator + "\" for sessions)");
  }
  for (const char* const of : {"total", "(sum(kwh for sessions))"}) {
    for (const char* const with : {"across stations",
                                   "across sessions.a",
                                   "across sessions.b",
                                   "across everything",
                                   "across everything but stations",
                                   "across everything but sessions.a",
                                   "via swapped",
                                   "via other",
                                   "via both",
                                   "via crossed",
                                   "via billed",
                                   "during to_date(year)",
                                   "during to_date(month)",
                                   "during whole(year)",
                                   "during previous(year)",
                                   "during next(year)",
                                   "during shift(-1 year)",
                                   "during shift(-2 year)",
                                   "during shift(-1 month)",
                                   "during trailing(1 year)",
                                   "during trailing(2 year)",
                                   "where sessions.a = 1",
                                   "where sessions.a = low",
                                   "where sessions.a = high",
                                   "where sessions.b = 1",
                                   "where stations.a = 1"})
      all.push_back("(" + std::string(of) + " " + with + ")");
  }
  for (const char* const rows :
       {"sessions", "sessions where a = 1", "sessions where a = 2", "distinct(sessions.a)", "distinct(sessions.b)",
        "distinct(stations.a)", "distinct(sessions.a, sessions.b)", "top 1 sessions by kwh", "top 2 sessions by kwh",
        "top 1 sessions by kwh asc", "group sessions by a with n = count(rows)"})
    all.push_back("count(" + std::string(rows) + ")");
  return all;
}

TEST(Canonical, ExpressionsOfDifferentMeaningsDiffer) {
  std::string text = tables;
  text += "measure total = sum(kwh for sessions)\n";
  std::size_t accepted = 0;
  std::map<std::string, std::string> seen;
  for (const std::string& expression : expressions()) {
    const auto model = Model::parse("m.ridge", text + "measure m = " + expression + "\n");
    if (!model) {
      ADD_FAILURE() << expression << ": " << test::messages(model.error());
      continue;
    }
    ++accepted;
    const language::CheckedModel& checked = model::checked(*model);
    const auto [at, fresh] = seen.emplace(language::canonical(checked, checked.measures[1].expression), expression);
    EXPECT_TRUE(fresh || at->second == expression) << at->second << " and " << expression << " are one: " << at->first;
  }
  EXPECT_GT(accepted, 700U);
}

// The value of a parameter is part of what is computed, whatever stands around it.
TEST(Canonical, ParametersTellByTheirValues) {
  for (const char* const expression : {"low", "-low", "low + 1", "case when low = 41 then 1 else 0 end"}) {
    const std::string text = std::string(tables) + "measure m = sum(" + expression + " for sessions)\n";
    const auto one = Model::parse("m.ridge", text);
    ASSERT_TRUE(one) << test::messages(one.error());
    ReadOptions options;
    options.settings = {{"low", "7"}};
    const auto other = Model::parse("m.ridge", text, options);
    ASSERT_TRUE(other) << test::messages(other.error());
    EXPECT_NE(language::canonical(model::checked(*one), model::checked(*one).measures[0].expression),
              language::canonical(model::checked(*other), model::checked(*other).measures[0].expression))
        << expression;
  }
}

}  // namespace
}  // namespace juniper::canonical_test
