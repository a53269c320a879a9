// Live tables as users meet them: what is refused and how, what is explained, and what servers do that fail.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <chrono>
#include <thread>

#include "juniper/audit.h"
#include "juniper/explain.h"
#include "juniper/export.h"
#include "juniper/links.h"
#include "juniper/unfold.h"
#include "juniper/weigh.h"
#include "support/clickhouse.h"
#include "support/postgresql.h"
#include "support/sqlite.h"
#include "support/support.h"

namespace juniper::live_test {
namespace {

constexpr const char* loaded_model = R"(
table sessions from csv "sessions.csv" { key id integer  bay integer  day date  kwh decimal(2)  channel text }
table bays from csv "bays.csv" { key bay integer  station text }
table days from csv "days.csv" { key day date  year integer }
link sessions.bay -> bays.bay
link sessions.day -> days.day
calendar days.day periods (year)
measure energy = sum(kwh for sessions)
measure busy = count(distinct bay for sessions)
query stations { by bays.station show energy, busy total grand }
query years { by days.year show energy, (energy during to_date(year)) as so_far, max(energy of b for b in bays) as most }
)";

const std::map<std::string, std::string> files{
    {"sessions.csv",
     "id,bay,day,kwh,channel\n1,1,2024-01-01,10.50,app\n2,1,2024-01-02,0.25,card\n3,2,2024-01-01,3.00,app\n"
     "4,,2025-01-01,7.00,\n5,9,2025-01-01,1.00,app\n"},
    {"bays.csv", "bay,station\n1,Coast\n2,Hill\n3,Hill\n"},
    {"days.csv", "day,year\n2024-01-01,2024\n2024-01-02,2024\n2025-01-01,2025\n"}};

// The model with some tables live on a place.
std::string live_model(const std::vector<std::string>& tables, const std::string& place) {
  std::string text = loaded_model;
  for (const std::string& table : tables) {
    const std::string from = fmt::format("table {0} from csv \"{0}.csv\"", table);
    text.replace(text.find(from), from.size(), fmt::format("table {0} live on {1} table \"{0}\"", table, place));
  }
  return text;
}

// An SQLite file with the tables of the loaded model.
class InSqlite {
 public:
  InSqlite() {
    const test::SmallModel loaded(loaded_model, files);
    EXPECT_TRUE(export_tables(loaded.open(), folder_.path("out"), {FileForm::sqlite, {}, {}}));
  }
  std::string place() const { return "sqlite \"" + folder_.path("out/model.sqlite") + "\""; }
  std::string file() const { return folder_.path("out/model.sqlite"); }

 private:
  test::TempFolder folder_;
};

TEST(Live, WhatIsSavedAnswersAsOverAStore) {
  const InSqlite database;
  const test::SmallModel loaded(loaded_model, files);
  const Dataset store = loaded.open();
  for (const auto& tables : std::vector<std::vector<std::string>>{{"sessions"}, {"sessions", "bays"}}) {
    const test::SmallModel model(live_model(tables, database.place()), files);
    const Dataset live = model.open();
    for (const std::string query : {"stations", "years", "by sessions.channel show count(sessions) as n"})
      EXPECT_EQ(test::answer(live, query), test::answer(store, query));
    const auto unfolded = unfold(live, "energy");
    ASSERT_TRUE(unfolded) << test::messages(unfolded.error());
  }
}

TEST(Live, EachStatementIsShownOnceAndMovesGroupsAlone) {
  const InSqlite database;
  const test::SmallModel model(live_model({"sessions"}, database.place()), files);
  const Dataset live = model.open();
  const auto explained = explain(live, {"by days.year show energy total grand"});
  ASSERT_TRUE(explained) << test::messages(explained.error());
  ASSERT_EQ(explained->statements.size(), 1U);
  EXPECT_EQ(explained->statements[0].rows, 2U);
  EXPECT_NE(explained->statements[0].text.find("GROUP BY"), std::string::npos);
  const auto answer = ask(live, {"by days.year show energy total grand"});
  ASSERT_TRUE(answer);
  EXPECT_EQ(answer->statements, 1U);
  EXPECT_EQ(answer->rows_moved, 2U);
}

TEST(Live, WhatReadsAllRowsSaysThatItDoesNot) {
  const InSqlite database;
  const test::SmallModel model(live_model({"sessions"}, database.place()), files);
  const Dataset live = model.open();
  EXPECT_EQ(test::codes(audit(live).error()), "JR-714");
  EXPECT_EQ(test::codes(export_tables(live, model.folder.path("out")).error()), "JR-714");
  Question naive{"stations"};
  naive.plan = Plan::naive;
  EXPECT_EQ(test::codes(ask(live, naive).error()), "JR-714");
}

// Keys that a condition chooses go along as a list, or, of many that follow each other, as ranges.
TEST(Live, ManyKeysOfAConditionAreRanges) {
  std::string days = "day,year\n";
  std::string sessions = "id,bay,day,kwh,channel\n6000,,,1.00,app\n";
  std::string bays = "bay,station\n";
  for (int i = 0; i < 90; ++i) {
    const std::string day = fmt::format("2024-{:02}-{:02}", 1 + i / 28, 1 + i % 28);
    if (i % 17 != 5) days += fmt::format("{},{}\n", day, i < 70 ? 2024 : 2025);
    bays += fmt::format("{},{}\n", i - 20, i % 40 < 30 ? "Hill" : "Coast");
    sessions += fmt::format("{},{},{},{}.25,app\n{},{},,0.50,card\n", i, i - 25, day, i, 1000 + i, 90 - i);
  }
  const test::SmallModel loaded(loaded_model, {{"sessions.csv", sessions}, {"bays.csv", bays}, {"days.csv", days}});
  const Dataset store = loaded.open();
  test::TempFolder folder;
  ASSERT_TRUE(export_tables(store, folder.path("out"), {FileForm::sqlite, {}, {}}));
  const test::SmallModel model(live_model({"sessions"}, "sqlite \"" + folder.path("out/model.sqlite") + "\""),
                               {{"bays.csv", bays}, {"days.csv", days}});
  const Dataset live = model.open();
  for (const std::string condition :
       {"days.year = 2024", "days.year = 2025", "days.year is not null", "days.year is null",
        "days.day > date \"2024-02-03\"", "bays.station = \"Hill\"", "bays.station = \"Coast\"", "bays.bay < 3",
        "days.year = 2024 and bays.bay >= 0", "days.year = 2024 or bays.station = \"Coast\""}) {
    const std::string query = "by sessions.channel show energy, count(sessions) as n where " + condition;
    EXPECT_EQ(test::answer(live, query), test::answer(store, query)) << condition;
  }
  const auto explained = explain(live, {"show energy where days.year is not null"});
  ASSERT_TRUE(explained);
  EXPECT_NE(explained->statements[0].text.find(" BETWEEN "), std::string::npos);
}

TEST(Live, ALoadTellsWhatItLeavesWhereItIs) {
  const InSqlite database;
  const test::SmallModel model(live_model({"sessions"}, database.place()), files);
  const auto report = load(model.path());
  ASSERT_TRUE(report) << test::messages(report.error());
  ASSERT_EQ(report->live.size(), 1U);
  EXPECT_EQ(report->live[0].table, "sessions");
  ASSERT_EQ(report->tables.size(), 2U);
  EXPECT_EQ(report->tables[0].table, "bays");
  EXPECT_FALSE(load(model.path())->loaded);
}

TEST(Live, WhatALoadComputesRestsOnNothingThatIsLive) {
  const InSqlite database;
  const auto errors_of = [&](const std::vector<std::string>& tables, const std::string& from, const std::string& to) {
    std::string text = live_model(tables, database.place());
    const std::size_t at = text.find(from);
    EXPECT_NE(at, std::string::npos);
    text.replace(at, from.size(), to);
    return test::codes(test::SmallModel(text, files).errors());
  };
  const std::string station = "station text }";
  EXPECT_EQ(errors_of({"sessions"}, station, "station text  n = count(sessions of this) }"), "JR-224");
  EXPECT_EQ(errors_of({"sessions"}, "table days", "table channels = distinct(sessions.channel)\ntable days"), "JR-224");
  EXPECT_EQ(errors_of({"bays"}, "link", "link"), "JR-224");
  EXPECT_EQ(errors_of({"sessions"}, "table bays from csv \"bays.csv\"",
                      "table bays from csv \"bays.csv\" reached from sessions"),
            "JR-224");
  EXPECT_EQ(errors_of({"sessions"}, "channel text }", "channel text  all_kwh = sum(s.kwh for s in sessions) }"),
            "JR-224");
  EXPECT_EQ(errors_of({"sessions", "days"}, "link", "link"), "JR-224");
  // What goes by its row is computed there.
  const test::SmallModel model(
      live_model({"sessions"}, database.place()) + "measure twice = sum(double for sessions)\n", files);
  std::string text = test::read_file(model.path());
  text.replace(text.find("channel text }"), 14, "channel text  double = kwh * 2 }");
  model.folder.write("model.ridge", text);
  EXPECT_EQ(test::answer(model.open(), "show twice"), "43.50");
}

TEST(Live, AKeyThatRepeatsBreaksItsLink) {
  const InSqlite database;
  test::run_shell("sqlite3 " + database.file() +
                  " 'CREATE TABLE twice AS SELECT * FROM bays UNION ALL SELECT * FROM bays WHERE bay = 2'");
  std::string text = live_model({"sessions", "bays"}, database.place());
  text.replace(text.find("table \"bays\" {"), 14, "table \"twice\" {");
  const test::SmallModel model(text, files);
  EXPECT_EQ(test::codes(ask(model.open(), {"stations"}).error()), "JR-706");
  EXPECT_EQ(test::answer(model.open(), "show energy"), "21.75");
}

TEST(Live, AValueThatDoesNotFitIsAnError) {
  const InSqlite database;
  test::run_shell("sqlite3 " + database.file() + " \"UPDATE sessions SET kwh = 'much' WHERE id = 3\"");
  const test::SmallModel model(live_model({"sessions"}, database.place()), files);
  const auto answer = ask(model.open(), {"show energy"});
  ASSERT_FALSE(answer);
  EXPECT_EQ(test::codes(answer.error()), "JR-521");
  EXPECT_NE(answer.error()[0].message.find("'much'"), std::string::npos);
  // Sums that leave 64 bits are none.
  test::run_shell("sqlite3 " + database.file() + " \"UPDATE sessions SET kwh = 92000000000000000 WHERE id < 4\"");
  EXPECT_EQ(test::codes(ask(model.open(), {"show energy"}).error()), "JR-521");
}

// The end of one statement is none of it: what stands behind, conditions among it, would not be asked.
TEST(Live, AQueryOfTheTextCannotEndTheStatement) {
  const InSqlite database;
  std::string text = live_model({"sessions"}, database.place());
  const std::string table = "table \"sessions\" {";
  const std::size_t at = text.find(table);
  ASSERT_NE(at, std::string::npos);
  for (const std::string query : {"select * from sessions) AS t$0; select * from (select 1",
                                  "select * from sessions) AS t$0 /*", "select * from sessions;"}) {
    std::string hostile = text;
    hostile.replace(at, table.size(), "query \"" + query + "\" {");
    const auto answer = ask(test::SmallModel(hostile, files).open(), {"show energy where sessions.id = 1"});
    ASSERT_FALSE(answer) << query;
    EXPECT_EQ(test::codes(answer.error()), "JR-521") << query;
  }
  // A comment that is left open takes in no condition.
  std::string open = text;
  open.replace(at, table.size(), "query \"select * from sessions /* all\" {");
  EXPECT_EQ(test::answer(test::SmallModel(open, files).open(), "show energy where sessions.id = 1"), "10.50");
  text.replace(at, table.size(), "query \"select * from sessions where id < 3\" {");
  EXPECT_EQ(test::answer(test::SmallModel(text, files).open(), "show energy"), "10.75");
}

TEST(Live, AFileOrColumnThatIsNotThereIsToldWithItsName) {
  const InSqlite database;
  const test::SmallModel away(live_model({"sessions"}, "sqlite \"nowhere.db\""), files);
  EXPECT_EQ(test::codes(ask(away.open(), {"show energy"}).error()), "JR-501");
  std::string text = live_model({"sessions"}, database.place());
  text.replace(text.find("kwh decimal(2)"), 14, "kwh decimal(2) from \"KWH2\"");
  const test::SmallModel model(text, files);
  const auto answer = ask(model.open(), {"show energy"});
  ASSERT_FALSE(answer);
  EXPECT_EQ(test::codes(answer.error()), "JR-505");
  EXPECT_NE(answer.error()[0].message.find("KWH2"), std::string::npos);
}

TEST(Live, APostgresqlServerIsOnlyRead) {
  test::Postgresql server;
  ASSERT_EQ(server.problem(), "");
  const test::SmallModel loaded(loaded_model, files);
  server.load(loaded.open());
  const std::string place = "postgresql \"" + server.place() + "\"";
  // A query of the text is a part of a statement, and can't end it.
  std::string text = live_model({"sessions"}, place);
  const std::string table = "table \"sessions\"";
  text.replace(text.find(table), table.size(),
               "query \"select 1) AS a; COMMIT; DROP TABLE sessions; SELECT * FROM (select 1 AS id\"");
  const test::SmallModel hostile(text, files);
  EXPECT_FALSE(ask(hostile.open(), {"show energy"}));
  const test::SmallModel model(live_model({"sessions", "bays"}, place), files);
  EXPECT_EQ(test::answer(model.open(), "stations"), test::answer(loaded.open(), "stations"));
  // More digits than are declared would be rounded in silence.
  text = live_model({"sessions"}, place);
  text.replace(text.find("kwh decimal(2)"), 14, "kwh decimal(1)");
  EXPECT_EQ(test::codes(ask(test::SmallModel(text, files).open(), {"show energy"}).error()), "JR-713");
}

// A fact in partitions on two further servers.
TEST(Live, PostgresqlOverTwoForeignServersAgrees) {
  test::Postgresql first;
  test::Postgresql second;
  test::Postgresql front;
  const test::SmallModel loaded(loaded_model, files);
  const Dataset store = loaded.open();
  std::vector<std::string> statements{"CREATE EXTENSION postgres_fdw", "DROP TABLE sessions",
                                      "CREATE TABLE sessions (id bigint, bay bigint, day date, kwh numeric(10, 2), "
                                      "channel text) PARTITION BY HASH (id)"};
  int number = 0;
  for (test::Postgresql* const server : {&first, &second}) {
    ASSERT_EQ(server->problem(), "");
    server->load(store);
    const std::string name = fmt::format("part{}", number);
    // Of each, the rows that belong there.
    for (const auto& answer : server->run(
             {fmt::format("CREATE TABLE parted (id bigint, bay bigint, day date, kwh numeric(10, 2), channel text) "
                          "PARTITION BY HASH (id); CREATE TABLE {} PARTITION OF parted FOR VALUES WITH (MODULUS 2, "
                          "REMAINDER {}); CREATE TABLE other PARTITION OF parted FOR VALUES WITH (MODULUS 2, REMAINDER "
                          "{}); INSERT INTO parted SELECT * FROM sessions",
                          name, number, 1 - number)}))
      EXPECT_EQ(answer.error, "");
    const std::string socket = server->place().substr(5, server->place().find(' ') - 5);
    statements.push_back(
        fmt::format("CREATE SERVER {} FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '{}', dbname "
                    "'postgres')",
                    name, socket));
    statements.push_back(fmt::format("CREATE USER MAPPING FOR postgres SERVER {} OPTIONS (user 'postgres')", name));
    statements.push_back(
        fmt::format("CREATE FOREIGN TABLE sessions_{0} PARTITION OF sessions FOR VALUES WITH (MODULUS 2, "
                    "REMAINDER {1}) SERVER {0} OPTIONS (table_name '{0}')",
                    name, number));
    ++number;
  }
  ASSERT_EQ(front.problem(), "");
  front.load(store);
  for (const auto& answer : front.run(statements)) EXPECT_EQ(answer.error, "");
  const test::SmallModel model(live_model({"sessions", "bays"}, "postgresql \"" + front.place() + "\""), files);
  const Dataset live = model.open();
  for (const std::string query : {"stations", "years", "by sessions.channel show count(sessions) as n"})
    EXPECT_EQ(test::answer(live, query), test::answer(store, query));
}

TEST(Live, WhatPostgresqlTakesForEqualOrForANumberIsNoneHere) {
  test::Postgresql server;
  ASSERT_EQ(server.problem(), "");
  for (const auto& answer :
       server.run({"CREATE COLLATION blurred (provider = icu, locale = 'und-u-ks-level2', deterministic = false)",
                   "CREATE TABLE odd (id bigint, name text COLLATE blurred, many numeric(30, 0), air double precision)",
                   "INSERT INTO odd VALUES (1, 'Coast', 1, 0.5), (2, 'coast', 100000000000000000000, 'NaN')"}))
    EXPECT_EQ(answer.error, "");
  const test::SmallModel model(
      fmt::format(
          "table odd live on postgresql \"{}\" table \"odd\" {{ id integer  name text  many integer  air real }}",
          server.place()),
      {});
  const Dataset odd = model.open();
  EXPECT_EQ(test::answer(odd, "by odd.name show count(odd) as n"), "Coast|1\ncoast|1");
  EXPECT_EQ(test::answer(odd, "show count(odd) as n where odd.name = \"coast\""), "1");
  EXPECT_EQ(test::answer(odd, "show count(distinct name for odd) as n"), "2");
  // A number that no column holds tells nothing apart, and a NaN is none.
  EXPECT_EQ(test::codes(ask(odd, {"by odd.many show count(odd) as n"}).error()), "JR-521");
  EXPECT_EQ(test::codes(ask(odd, {"show sum(air for odd) as air"}).error()), "JR-521");
  EXPECT_EQ(test::answer(odd, "show sum(air for odd) as air where odd.id = 1"), "0.5");
}

// One of two servers that hold half of the rows each.
TEST(Live, AnAnswerIsWholeOrAnErrorWhileAShardIsKilled) {
  test::Clickhouse other;
  ASSERT_EQ(other.problem(), "");
  test::Clickhouse server({other.native_port()});
  ASSERT_EQ(server.problem(), "");
  const test::SmallModel loaded(loaded_model, files);
  const Dataset store = loaded.open();
  ASSERT_TRUE(server.spread(store, other));
  const test::SmallModel model(live_model({"sessions", "bays"}, "clickhouse \"" + server.place() + "\""), files);
  const Dataset live = model.open();
  const std::string want = test::answer(store, "stations");
  EXPECT_EQ(test::answer(live, "stations"), want);
  const int times = test::is_sanitized ? 2 : 6;
  std::size_t failed = 0;
  for (int i = 0; i < times; ++i) {
    std::thread killer([&] {
      std::this_thread::sleep_for(std::chrono::milliseconds(7 * i));
      other.kill();
    });
    for (int q = 0; q < 20; ++q) {
      const auto answer = ask(live, {"stations"});
      if (answer) {
        EXPECT_EQ(test::rows_of(*answer), want);
      } else {
        EXPECT_EQ(test::codes(answer.error()), "JR-521");
        ++failed;
      }
    }
    killer.join();
    other.start();
    ASSERT_EQ(other.problem(), "");
    // The first may still meet the connection of before.
    for (int again = 0; again < 5 && !ask(live, {"stations"}); ++again) {
    }
    EXPECT_EQ(test::answer(live, "stations"), want);
  }
  EXPECT_GT(failed, 0U);
}

}  // namespace
}  // namespace juniper::live_test
