#include "language/check.h"

#include <gtest/gtest.h>

#include "juniper/model.h"
#include "model/access.h"
#include "model/uses.h"
#include "support/support.h"

namespace juniper::check_test {
namespace {

// A small network for every test here; `more` stands behind it.
std::string network(const std::string& more, const std::string& columns = "") {
  return R"(table sessions from csv "s.csv" {
  key id integer
  bay_id integer  tariff text  day date  started datetime  stop_day date
  energy decimal(3)  idle integer  share real  paid boolean  channel text  at time
)" + columns +
         R"(}
table bays from csv "b.csv" { key bay_id integer  station_id integer  kw integer }
table stations from csv "st.csv" { key station_id integer  region text  since date }
table tariffs from csv "t.csv" { key code text  price decimal(4) }
table days from csv "d.csv" { key day date  year integer  month integer  month_name text sorted by month }
table visits from csv "v.csv" { bay_id integer  cost decimal(2) }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff -> tariffs.code
link sessions.day -> days.day
link sessions.stop_day -> days.day as stopped
link visits.bay_id -> bays.bay_id
)" + more;
}

struct Case {
  std::string text;
  std::string codes;
  std::string says;  // a part of the messages
};

void expect_all(const std::vector<Case>& cases, const std::string& columns_or_more) {
  for (const Case& c : cases) {
    const std::string text = columns_or_more == "columns" ? network("", "  " + c.text + "\n") : network(c.text);
    const auto model = Model::parse("m.ridge", text);
    EXPECT_EQ(model ? "" : test::codes(model.error()), c.codes) << c.text << "\n"
                                                                << (model ? "" : test::messages(model.error()));
    if (!model && !c.says.empty()) {
      EXPECT_NE(test::messages(model.error()).find(c.says), std::string::npos) << c.text << "\n"
                                                                               << test::messages(model.error());
    }
  }
}

TEST(Check, TheTypeOfEachExpression) {
  const std::vector<std::pair<std::string, std::string>> cases{
      {"1 + 2", "integer"},
      {"energy + 1", "decimal(3)"},
      {"energy * 2", "decimal(3)"},
      {"energy * tariffs.price", "decimal(7)"},
      {"energy + tariffs.price", "decimal(4)"},
      {"energy / 2", "real"},
      {"share * energy", "real"},
      {"idle div 2", "integer"},
      {"idle mod 2", "integer"},
      {"-energy", "decimal(3)"},
      {"1.50", "decimal(2)"},
      {"2e0", "real"},
      {"round(energy, 1)", "decimal(1)"},
      {"round(energy)", "decimal(0)"},
      {"round(energy, 5)", "decimal(3)"},
      {"round(energy, -2)", "decimal(0)"},
      {"round(idle, 2)", "integer"},
      {"floor(energy)", "decimal(0)"},
      {"floor(share)", "real"},
      {"abs(energy)", "decimal(3)"},
      {"sign(share)", "integer"},
      {"sqrt(idle)", "real"},
      {"power(energy, 2)", "real"},
      {"least(idle, energy)", "decimal(3)"},
      {"coalesce(idle, 0.5)", "decimal(1)"},
      {"coalesce(idle, share)", "real"},
      {"channel || tariff", "text"},
      {"length(channel)", "integer"},
      {"energy > 3", "boolean"},
      {"channel in (\"a\", \"b\")", "boolean"},
      {"started between datetime \"2024-01-01 00:00:00\" and datetime \"2024-02-01 00:00:00\"", "boolean"},
      {"date(started)", "date"},
      {"time(started)", "time"},
      {"hour(at)", "integer"},
      {"year(day)", "integer"},
      {"add_months(day, 1)", "date"},
      {"days_between(day, stop_day)", "integer"},
      {"years_between(stations.since, today())", "real"},
      {"case when paid then 1 else 0.25 end", "decimal(2)"},
      {"if paid then channel", "text"},
      {"case channel when \"app\" then 1 end", "integer"},
      {"not paid", "boolean"},
      {"energy is not null", "boolean"},
      {"energy is not distinct from 3", "boolean"},
      {"stopped.year", "integer"},
      {"bays.stations.region", "text"},
      {"stations.region", "text"},
      {"sessions.energy", "decimal(3)"},
      {"this.energy", "decimal(3)"},
      {"sum(s.energy for s in sessions)", "decimal(3)"},
      {"avg(s.energy for s in sessions)", "real"},
      {"count(sessions)", "integer"},
      {"min(s.started for s in sessions)", "datetime"},
      {"max(s.channel for s in sessions where s.paid)", "text"},
      {"null = 1", "boolean"},
      {"coalesce(null, energy)", "decimal(3)"}};
  for (const auto& [expression, type] : cases) {
    const auto model = Model::parse("m.ridge", network("", "  x = " + expression + "\n"));
    ASSERT_TRUE(model) << expression << "\n" << test::messages(model.error());
    const auto& table = model::checked(*model).tables[0];
    EXPECT_EQ(to_string(table.columns[*table.find("x")].type), type) << expression;
  }
}

TEST(Check, WhatACalculatedColumnCannotSay) {
  expect_all(
      {
          {"x = enrgy * 2", "JR-202", "did you mean 'energy'?"},
          {"x = price * 2", "JR-202", "tariffs.price"},
          {"x = energy + channel", "JR-301", "takes numbers"},
          {"x = channel + \"x\"", "JR-301", "joined by ||"},
          {"x = day + 1", "JR-301", "add_days"},
          {"x = channel = 3", "JR-302", "write integer(channel), or declare"},
          {"x = energy = \"3\"", "JR-302", "without quotes"},
          {"x = started = day", "JR-302", "date(started)"},
          {"x = day = \"2024-01-01\"", "JR-302", "date \"2025-03-01\""},
          {"x = energy and paid", "JR-305", "condition"},
          {"x = if energy then 1", "JR-305", "condition"},
          {"x = case when paid then 1 else \"a\" end", "JR-302", ""},
          {"x = lenght(channel)", "JR-205", "did you mean 'length'?"},
          {"x = length(energy)", "JR-303", "length(text)"},
          {"x = round(energy, idle)", "JR-303", "digits"},
          {"x = today(1)", "JR-303", "today()"},
          {"x = energy * energy * energy * energy * energy * energy * energy", "JR-304", "round one"},
          {"x = energy div 2", "JR-301", "integers"},
          {"x = visits.cost", "JR-207", "no link leads from sessions to visits"},
          {"x = stops.year", "JR-201", "no table or role 'stops'"},
          {"x = y y = x", "JR-211", "sessions.x -> sessions.y -> sessions.x"},
          {"x = null", "JR-301", "no type"},
          {"x = sum(avg(idle for sessions) for sessions)", "JR-212", "name"},
          {"x = sum(energy for t in sessions where t.bay_id = this.bay_id)", "JR-212", "this.energy or t.energy"},
          {"x = sum(t.channel for t in sessions)", "JR-301", "sum takes numbers"},
          {"energy integer", "JR-203", "already"},
          {"x integer sorted by nothing", "JR-202", ""},
          {"x integer format \"#.##0;;;'\"", "JR-306", "pattern"},
          {"x text format \"0.0\"", "JR-306", "pattern"},
      },
      "columns");
}

TEST(Check, WhatADeclarationCannotSay) {
  expect_all(
      {
          {"measure m = energy", "JR-402", "sum(energy for sessions)"},
          {"measure m = sessions.energy", "JR-402", "no row"},
          {"measure m = sum(energy for session)", "JR-201", "did you mean 'sessions'?"},
          {"measure a = sum(energy for sessions) measure b = sum(a for sessions)", "JR-401", "'a' is a measure"},
          {"measure a = b measure b = a", "JR-211", "a -> b -> a"},
          {"measure a = a + 1", "JR-211", ""},
          {"measure a = c", "JR-204", ""},
          {"measure sessions = count(sessions)", "JR-203", "line 1"},
          {"measure stopped = 1", "JR-203", ""},
          {"measure m = sum(region for stations)", "JR-301", "any type"},
          {"measure m = sum(stations.kw for sessions)", "JR-202", ""},
          {"measure m = count(distinct s.bay for s in sessions)", "JR-202", "did you mean 'day'?"},
          {"table loop from csv \"l.csv\" { x integer  code = tariffs.code }\nlink loop.code -> tariffs.code", "JR-211",
           "need 'code' itself"},
          {"table fine from csv \"l.csv\" { x text  code = x || \"-\" price = tariffs.price }\nlink fine.code -> "
           "tariffs.code",
           "", ""},
          {"link sessions.idle -> tariffs.code", "JR-206 JR-216", "different types"},
          {"link sessions.bay_id -> bays.station_id as x", "JR-206", "not declared as one"},
          {"link sessions.bay_id -> bays.bay_id", "JR-206", "needs a role"},
          {"link sessions.bay -> bays.bay_id", "JR-202", "bay_id"},
          {"link session.bay_id -> bays.bay_id", "JR-201", "sessions"},
          {"table nothing from csv \"n.csv\" { x = 1 }", "JR-210", "no column"},
          {"table nothing from csv \"n.csv\" { }", "JR-210", ""},
          {"table sessions from csv \"n.csv\" { x integer }", "JR-203", ""},
      },
      "more");
}

TEST(Check, WhatAQueryCannotSay) {
  const std::string measures =
      "measure energy = sum(energy for sessions) measure cost = sum(cost for visits) measure n = count(stations) "
      "measure both = cost / energy\n";
  std::vector<Case> cases{
      {"query q { by days.year show energy, cost }", "JR-403", "does not reach visits"},
      {"query q { by tariffs.code show n }", "JR-403", "repeated in every row"},
      {"query q { show cost where days.year = 2024 }", "JR-403", "change nothing"},
      {"query q { show both where days.year = 2024 or bays.kw = 3 }", "JR-404", "only a part"},
      {"query q { show energy where energy > 3 }", "JR-405", "is a measure"},
      {"query q { show energy where sum(cost for visits) > 3 }", "JR-405", "aggregate"},
      {"query q { show energy where year = 2024 }", "JR-202", "days.year"},
      {"query q { show energy where days.yeer = 2024 }", "JR-202", "did you mean 'year'?"},
      {"query q { show energy where days.year }", "JR-305", "condition"},
      {"query q { show energy where 1 = 1 }", "JR-404", "reads no column"},
      {"query q { by days.year }", "JR-408", "shows nothing"},
      {"query q { by days.year show energy total days.month }", "JR-407", "not a `by` column"},
      {"query q { by days.year show energy total days.year }", "JR-407", "repeat the rows"},
      {"query q { show energy total grand }", "JR-407", "own grand total"},
      {"query q { by days.year show energy sort days.month }", "JR-407", ""},
      {"query q { by days.year, days.year show energy }", "JR-203", "two columns"},
      {"query q { show energy, energy }", "JR-203", "another name"},
      {"query q { show sum(energy for sessions) + idle }", "JR-402", ""},
      {"query q { by days.year, visits.cost show both }", "JR-406", "from TABLE"},
      {"query q { by days.year, stations.region show energy from visits }", "JR-406", "does not lead"},
      {"query q { by stopped.year show cost }", "JR-403", ""},
      {"query q { by stopped.year, days.year as y show energy, e2 = energy / 2 where stations.region like \"C%\" total "
       "grand, y sort energy desc limit 3 }",
       "", ""},
      {"query q { by stations.region show both, n where bays.kw > 3 }", "JR-403", "does not reach stations"},
      {"query q { by stations.region show both, n, 5 as five }", "", ""},
  };
  for (Case& c : cases) c.text = measures + c.text;
  expect_all(cases, "more");
}

TEST(Check, SeveralPathsAreAnErrorThatListsThem) {
  const std::string text = R"(table a from csv "a.csv" { key id integer b_id integer c_id integer }
table b from csv "b.csv" { key id integer d_id integer }
table c from csv "c.csv" { key id integer d_id integer }
table d from csv "d.csv" { key id integer name text }
link a.b_id -> b.id  link a.c_id -> c.id  link b.d_id -> d.id  link c.d_id -> d.id
measure n = count(a)
)";
  const auto wrong = Model::parse("m.ridge", text + "measure m = max(d.name for a)");
  ASSERT_FALSE(wrong);
  EXPECT_EQ(test::codes(wrong.error()), "JR-208");
  EXPECT_NE(test::messages(wrong.error()).find("b.d, c.d"), std::string::npos) << test::messages(wrong.error());
  EXPECT_TRUE(Model::parse("m.ridge", text + "measure m = max(b.d.name for a)"));
  const auto query = Model::parse("m.ridge", text + "query q { by d.name show n }");
  ASSERT_FALSE(query);
  EXPECT_EQ(test::codes(query.error()), "JR-208");
}

TEST(Check, AllErrorsOfAModelAtOnce) {
  const auto model = Model::parse(
      "m.ridge", network("measure a = sum(x for sessions) measure b = sum(energy for sesions) measure c = a / b "
                         "query q { by day.year show energy, c sort nothing }",
                         "  y = chanel\n"));
  ASSERT_FALSE(model);
  // In the order of the text; what rests on a definition with an error says nothing of its own.
  EXPECT_EQ(test::codes(model.error()), "JR-202 JR-202 JR-201 JR-201 JR-402");
}

TEST(Check, KnowsWhoUsesWhat) {
  const auto model =
      Model::parse("m.ridge", network("measure m = sum(twice for sessions where channel = \"app\") measure k = m / 2 "
                                      "query q { by days.month_name show k where sessions.idle > 1 }",
                                      "  twice = energy * 2\n  note text used by \"finance\"\n"));
  ASSERT_TRUE(model) << test::messages(model.error());
  const auto& checked = model::checked(*model);
  const model::Uses uses(checked);
  const auto users = [&](const std::string& table, const std::string& column) {
    const auto t = *checked.find_table(table);
    std::string text;
    for (const auto& user : uses.of({t, *checked.tables[t].find(column)}))
      text += std::string(to_string(user.kind)) + " " + user.name + "; ";
    return text;
  };
  EXPECT_EQ(users("sessions", "energy"), "calculated column sessions.twice; ");
  EXPECT_EQ(users("sessions", "twice"), "measure m; ");
  EXPECT_EQ(users("sessions", "channel"), "measure m; ");
  EXPECT_EQ(users("sessions", "idle"), "query q; ");
  EXPECT_EQ(users("sessions", "note"), "declared use finance; ");
  EXPECT_EQ(users("sessions", "share"), "");
  EXPECT_EQ(users("days", "month"), "sort order days.month_name; ");
  EXPECT_EQ(users("days", "month_name"), "query q; ");
  EXPECT_EQ(users("bays", "bay_id"), "link sessions.bay_id -> bays.bay_id; link visits.bay_id -> bays.bay_id; ");
}

TEST(Check, CanonicalTextIgnoresLayoutAndKeepsMeaning) {
  const auto of = [](const std::string& expression) {
    const auto model = Model::parse("m.ridge", network("measure m = " + expression));
    return language::canonical(model::checked(*model), model::checked(*model).measures[0].expression);
  };
  EXPECT_EQ(of("sum(energy*2 for sessions)"), of("( sum( s.energy  * 2 # why\n for s in sessions ) )"));
  EXPECT_NE(of("sum(energy for sessions)"), of("avg(energy for sessions)"));
  EXPECT_NE(of("max(days.year for sessions)"), of("max(stopped.year for sessions)"));
}

}  // namespace
}  // namespace juniper::check_test
