// Filters that reach a table over a bridge: cards belong to groups by memberships. Each answer is also asked of the naive
// evaluator and of SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "juniper/explain.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::bridges_test {
namespace {

constexpr const char* text = R"(
table sessions from csv "sessions.csv" { key id integer  card integer  day date  kwh decimal(1)  weight real }
table cards from csv "cards.csv" { key card integer  holder text }
table groups from csv "groups.csv" { key id integer  name text  kind text }
table memberships from csv "memberships.csv" { card integer  group_id integer  level integer }
table days = every day of sessions.day
link sessions.card -> cards.card
link sessions.day -> days.day
link memberships.card -> cards.card
link memberships.group_id -> groups.id
measure energy = sum(kwh for sessions)
measure n_sessions = count(sessions)
measure shared = (energy through memberships)
measure share = (energy through memberships) / energy
)";

// Card 1 is in East twice and in West, 2 in West, 3 in no group, 4 in one that is not known; session 6 has no card.
const std::map<std::string, std::string> files{
    {"sessions.csv",
     "id,card,day,kwh,weight\n1,1,2025-01-01,10.0,0.1\n2,1,2025-02-01,20.0,0.2\n3,2,2025-02-01,5.0,0.3\n"
     "4,3,2025-02-02,7.0,0.4\n5,4,2025-03-01,3.0,0.5\n6,,2025-03-01,1.0,0.6\n"},
    {"cards.csv", "card,holder\n1,fleet\n2,private\n3,private\n4,fleet\n5,fleet\n"},
    {"groups.csv", "id,name,kind\n1,East,place\n2,West,place\n3,Empty,other\n"},
    {"memberships.csv", "card,group_id,level\n1,1,1\n1,1,2\n1,2,1\n2,2,3\n4,9,1\n5,2,1\n,1,1\n8,1,1\n"}};

class Bridges : public testing::Test {
 protected:
  void expect(const std::string& query, const std::string& rows) {
    EXPECT_EQ(test::answer(dataset_, query), rows) << query;
    EXPECT_EQ(test::answer_difference(dataset_, query), "") << query;
  }
  void expect_error(const std::string& query, const std::string& code, const std::string& part) {
    const auto asked = ask(dataset_, {query});
    ASSERT_FALSE(asked) << query;
    EXPECT_EQ(asked.error()[0].code, code) << test::messages(asked.error());
    EXPECT_NE(test::messages(asked.error()).find(part), std::string::npos) << test::messages(asked.error());
  }

  test::SmallModel model_{text, files};
  Dataset dataset_ = model_.open();
};

TEST_F(Bridges, EachRowCountsOnceInEachGroupAndOnceInATotal) {
  expect("by groups.name show shared, (n_sessions through memberships) as n total grand",
         "East|30.0|2\nWest|35.0|3\nnull|3.0|1\ngrand:|38.0|4");
}

TEST_F(Bridges, WhatDoesNotAddUpIsSaid) {
  const std::string query = "by groups.name, days.month show shared, energy across groups as all_energy total ";
  for (const Plan plan : {Plan::engine, Plan::naive}) {
    const auto notes = [&](const std::string& total) {
      Question question{query + total};
      question.plan = plan;
      return ask(dataset_, question)->notes;
    };
    ASSERT_EQ(notes("grand").size(), 1U);
    EXPECT_EQ(notes("grand")[0],
              "a row counts once for each groups.name that memberships puts it in: these do not add up to the total");
    EXPECT_EQ(notes("days.month").size(), 1U);
    EXPECT_TRUE(notes("groups.name").empty());
  }
  EXPECT_TRUE(ask(dataset_, {"by groups.name show shared"})->notes.empty());
}

TEST_F(Bridges, WithoutAFilterRowsOfNoMembershipAreLeftOut) {
  expect("show shared, energy, share", "38.0|46.0|0.8260869565217391");
}

TEST_F(Bridges, KeysOfBothSidesMeet) {
  expect("by groups.name, days.month show shared total days.month",
         "East|1|10.0\nEast|2|20.0\nWest|1|10.0\nWest|2|25.0\nnull|3|3.0\n"
         "days.month:|1|10.0\ndays.month:|2|25.0\ndays.month:|3|3.0");
  expect("by cards.holder, memberships.level show shared", "fleet|1|33.0\nfleet|2|30.0\nprivate|3|5.0");
}

TEST_F(Bridges, ConditionsGoWhereTheyAreTold) {
  expect("by groups.name show shared where memberships.level = 1", "East|30.0\nWest|30.0\nnull|3.0");
  expect("by groups.name show shared where cards.holder = \"private\"", "West|5.0");
  expect("show shared where groups.name = \"West\" and days.month = 2", "25.0");
  // One that both sides together tell is told by the bridge.
  expect("show shared where groups.name = \"East\" or cards.holder = \"private\"", "35.0");
  expect(
      "show (energy through memberships where memberships.level > 1) as high, (shared where groups.kind = \"other\") "
      "as none",
      "35.0|null");
}

TEST_F(Bridges, TheTableWhereTheyMeetIsReachedToo) {
  expect("by groups.name show ((count(cards)) through memberships) as n total grand",
         "East|1\nWest|3\nnull|1\ngrand:|4");
  expect("show ((list(g.name, \", \" for g in groups)) through memberships) as names where cards.card = 1",
         "East, West");
}

TEST_F(Bridges, EveryAggregateIsOfTheRowsOnce) {
  expect(
      "by groups.name show ((count(distinct card for sessions)) through memberships) as cards, "
      "((median(kwh for sessions)) through memberships) as middle, "
      "((last(kwh by day for sessions)) through memberships) as latest, "
      "((list(text(id), \" \" for sessions where kwh > 4)) through memberships) as ids",
      "East|1|15|20.0|1 2\nWest|2|10|5.0|1 2 3\nnull|1|3|3.0|null");
}

TEST_F(Bridges, LoopsAndGroupsCarryThem) {
  expect(
      "show ((max(energy of g for g in groups)) through memberships) as best, "
      "((max(energy of g for g in distinct(groups.kind))) through memberships) as best_kind",
      "35.0|35.0");
  expect(
      "by groups.name show ((max(d.kwh for d in group sessions by (day as d) with kwh = sum(kwh for rows))) through "
      "memberships) as most",
      "East|20.0\nWest|25.0\nnull|3.0");
  expect("by groups.name show (count(s in sessions where s.kwh > (shared of slice) / 3)) through memberships as many",
         "East|1\nWest|1\nnull|1");
}

TEST_F(Bridges, AConditionOnARowOutsideIsAskedForEachOfThem) {
  expect("show list(text(shared of slice where memberships.level <= g.id), \" \" for g in groups) as sums",
         "33.0 33.0 38.0");
}

TEST_F(Bridges, PeriodsAreThoseOfTheCalendarItself) {
  expect("by groups.name, days.month show shared, (shared during previous(month)) as before where days.month = 2",
         "East|2|20.0|10.0\nWest|2|25.0|10.0");
  expect("by groups.name show (energy through memberships during to_date(year)) as so_far where days.month = 2",
         "East|30.0\nWest|35.0");
}

TEST_F(Bridges, AcrossDropsFiltersAndLeavesTheBridge) {
  expect("by groups.name show (energy through memberships across groups) as all_groups",
         "East|38.0\nWest|38.0\nnull|38.0");
}

TEST_F(Bridges, WhatTheyCannotMeanIsAnErrorThatTeaches) {
  expect_error("show (energy through groups) as a", "JR-416",
               "no table over which 'a' goes shares a table with groups");
  expect_error("show (energy through days) as a", "JR-416", "no table over which");
  expect_error("show (energy through sessions) as a", "JR-416", "no table over which");
  expect_error("show (energy through nothing) as a", "JR-201", "there is no table 'nothing'");
  expect_error("by groups.name show shared, energy", "JR-403", "'groups.name' does not reach sessions");
  expect_error("show shared where groups.name = \"East\" or days.month = 1", "JR-404", "only a part of this condition");
  expect_error("show 2 * energy through memberships as a", "JR-119", "write");
}

// Two tables that share two others: which is meant can't be told, unless one of the links is not followed by itself.
TEST(BridgesBetween, SeveralMeetingsAreRefusedAndARoleSettlesThem) {
  const auto text_with = [](const std::string& role) {
    return R"(
table a from csv "a.csv" { key id integer  x integer  y integer  v integer }
table b from csv "b.csv" { x integer  y integer  name text }
table xs from csv "xs.csv" { key x integer }
table ys from csv "ys.csv" { key y integer }
link a.x -> xs.x
link a.y -> ys.y
link b.x -> xs.x
link b.y -> ys.y)" +
           role + "\nmeasure total = sum(v for a)\nmeasure over = (total through b)\n";
  };
  const std::map<std::string, std::string> data{{"a.csv", "id,x,y,v\n1,1,1,5\n2,1,2,7\n3,2,1,9\n"},
                                                {"b.csv", "x,y,name\n1,2,p\n1,1,q\n"},
                                                {"xs.csv", "x\n1\n2\n"},
                                                {"ys.csv", "y\n1\n2\n"}};
  const test::SmallModel several(text_with(""), data);
  EXPECT_EQ(test::codes(several.errors()), "JR-416");
  EXPECT_NE(test::messages(several.errors()).find("meet at xs and at ys"), std::string::npos);
  const test::SmallModel one(text_with(" as other"), data);
  const Dataset dataset = one.open();
  EXPECT_EQ(test::answer(dataset, "by b.name show over total grand"), "p|12\nq|12\ngrand:|12");
  EXPECT_EQ(test::answer_difference(dataset, "by b.name show over total grand"), "");
}

TEST(BridgesBetween, TwoBridgesOfOneMeasureBothHold) {
  const test::SmallModel model(R"(
table a from csv "a.csv" { key id integer  x integer  v real }
table xs from csv "xs.csv" { key x integer }
table b from csv "b.csv" { x integer  name text }
table c from csv "c.csv" { x integer  name text }
link a.x -> xs.x
link b.x -> xs.x
link c.x -> xs.x
measure total = sum(v for a)
measure both = ((total through b) through c)
)",
                               {{"a.csv", "id,x,v\n1,1,0.5\n2,2,0.25\n3,3,4\n4,1,1\n"},
                                {"xs.csv", "x\n1\n2\n3\n"},
                                {"b.csv", "x,name\n1,p\n2,p\n1,q\n"},
                                {"c.csv", "x,name\n1,s\n3,s\n1,t\n"}});
  const Dataset dataset = model.open();
  for (const std::string query :
       {"by b.name, c.name show both total grand, b.name", "show both where b.name = \"q\" and c.name <> \"s\"",
        "by b.name show both where c.name = \"s\""})
    EXPECT_EQ(test::answer_difference(dataset, query), "") << query;
  EXPECT_EQ(test::answer(dataset, "by b.name, c.name show both"), "p|s|1.5\np|t|1.5\nq|s|1.5\nq|t|1.5");
}

// Every relation between three cards and two groups, with a session of each card.
TEST(BridgesBetween, EverySmallRelationIsAnsweredAlike) {
  std::size_t asked = 0;
  for (unsigned relation = 0; relation < 64; ++relation) {
    std::string memberships = "card,group_id,level\n";
    for (unsigned pair = 0; pair < 6; ++pair) {
      if ((relation >> pair & 1) == 0) continue;
      memberships += fmt::format("{},{},1\n", pair / 2 + 1, pair % 2 + 1);
      if (pair == relation % 6) memberships += fmt::format("{},{},2\n", pair / 2 + 1, pair % 2 + 1);
    }
    auto data = files;
    data["memberships.csv"] = memberships;
    const test::SmallModel model(text, data);
    const Dataset dataset = model.open();
    for (const std::string query :
         {"by groups.name show shared, (n_sessions through memberships) as n total grand",
          "by groups.name, cards.holder, days.month show shared keep empty",
          "show shared, ((count(cards)) through memberships) as n where groups.name = \"East\""}) {
      EXPECT_EQ(test::answer_difference(dataset, query), "") << query << "\n" << memberships;
      ++asked;
    }
  }
  EXPECT_EQ(asked, 192U);
}

// Of many rows: a sum over groups is that of the pairs of a session and a group, found without bridges by a calculated column; and no
// number of threads changes a bit of a sum of reals.
TEST(BridgesBetween, SumsOfManyRowsAreThoseOfTheirPairs) {
  std::mt19937_64 random(11);
  std::string sessions = "id,card,day,kwh,weight\n";
  std::string cards = "card,holder\n";
  std::string memberships = "card,group_id,level\n";
  constexpr unsigned n_cards = 3000;
  constexpr unsigned n_groups = 40;
  for (unsigned c = 0; c < n_cards; ++c) cards += fmt::format("{},h{}\n", c, c % 7);
  for (unsigned m = 0; m < 3 * n_cards; ++m)
    memberships += fmt::format("{},{},{}\n", random() % n_cards, random() % n_groups, m % 5);
  for (unsigned s = 0; s < 30'000; ++s) {
    sessions += fmt::format("{},{},2025-{:02}-01,{}.{},{}\n", s, random() % (n_cards + 50), 1 + s % 3, random() % 90,
                            random() % 10, static_cast<double>(random() % 100'000) / 7919);
  }
  std::string groups = "id,name,kind\n";
  for (unsigned g = 0; g < n_groups; ++g) groups += fmt::format("{},g{},k{}\n", g, g, g % 3);
  const test::SmallModel model(
      text,
      {{"sessions.csv", sessions}, {"cards.csv", cards}, {"memberships.csv", memberships}, {"groups.csv", groups}});
  Options one;
  one.threads = 1;
  Options four;
  four.threads = 4;
  const Dataset alone = model.open(one);
  const Dataset together = model.open(four);
  for (const std::string query :
       {"by groups.name show shared, (n_sessions through memberships) as n, ((sum(weight for sessions)) through "
        "memberships) as w total grand",
        "by groups.kind, days.month, cards.holder show shared, ((avg(weight for sessions)) through memberships) as w",
        "by groups.name show ((stddev(weight for sessions)) through memberships) as w where memberships.level = 2"}) {
    EXPECT_EQ(test::answer(alone, query), test::answer(together, query)) << query;
    auto twin = SqliteTwin::open(alone);
    ASSERT_TRUE(twin);
    EXPECT_EQ(test::sqlite_difference(*twin, query, false).value_or(""), "") << query;
  }
}

TEST_F(Bridges, ExplainSaysWhatIsReadOfThem) {
  const auto explained = explain(dataset_, {"by groups.name show shared"});
  ASSERT_TRUE(explained);
  ASSERT_EQ(explained->steps.size(), 3U);
  EXPECT_EQ(explained->steps[1].what, "sessions: 1 aggregate");
  EXPECT_EQ(explained->steps[2].what, "memberships: pairs with cards, by groups.name");
  EXPECT_EQ(explained->steps[2].rows_out, 5U);
}

}  // namespace
}  // namespace juniper::bridges_test
