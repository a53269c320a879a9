// Links that are broken: told, with the rest of the model at work, and refused where a query would cross them.
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "juniper/links.h"
#include "juniper/report.h"
#include "juniper/sql.h"
#include "juniper/weigh.h"
#include "support/support.h"

namespace juniper::broken_link_test {
namespace {

constexpr const char* text = R"(
table sessions from csv "sessions.csv" { key id integer  bay_id integer  tariff text  energy decimal(1)
  station = bays.station_id   label = "s" || station   price = tariffs.price }
table bays from csv "bays.csv" { key bay_id integer  station_id text  n = count(sessions of this) }
table tariffs from csv "tariffs.csv" { key code text  price decimal(2) }
table lanes = distinct(bays.station_id for sessions)
link sessions.bay_id -> bays.bay_id
link sessions.tariff -> tariffs.code
measure energy = sum(energy for sessions)
measure cost = sum(energy * tariffs.price for sessions)
)";

test::SmallModel network(const std::string& bays) {
  return {text,
          {{"sessions.csv", "id,bay_id,tariff,energy\n1,7,A,1.5\n2,8,B,2\n3,7,C,3\n"},
           {"bays.csv", bays},
           {"tariffs.csv", "code,price\nA,0.50\nB,0.25\n"}}};
}

constexpr const char* repeated = "bay_id,station_id\n7,1\n8,1\n7,2\n7,3\n";

TEST(BrokenLinks, ARepeatedKeyBreaksItsLinkAndLeavesTheRest) {
  const test::SmallModel model = network(repeated);
  const auto loaded = load(model.path());
  ASSERT_TRUE(loaded) << test::messages(loaded.error());
  ASSERT_EQ(test::codes(loaded->warnings), "JR-515 JR-515") << test::messages(loaded->warnings);
  EXPECT_EQ(loaded->warnings[0].place.line, 7U);
  EXPECT_EQ(loaded->warnings[0].message,
            "the link sessions.bay_id -> bays.bay_id is broken: bays.bay_id is 7 in row 3 (" +
                model.folder.path("bays.csv") + ":4) and in row 1 already (2 rows repeat a key)");
  // Through any number of steps, and what does not cross it is there.
  EXPECT_NE(loaded->warnings[1].message.find("sessions.station, sessions.label, bays.n, lanes"), std::string::npos)
      << loaded->warnings[1].message;
  for (const Dataset& dataset : {model.open(), model.open()}) {  // as loaded, and from the file
    EXPECT_EQ(test::codes(dataset.warnings()), "JR-515 JR-515");
    EXPECT_EQ(test::answer(dataset, "show energy, cost"), "6.5|1.250");
    EXPECT_EQ(test::answer(dataset, "by tariffs.code show energy, sum(price for sessions) as p"),
              "A|1.5|0.50\nB|2.0|0.25\nnull|3.0|null");
    EXPECT_EQ(test::answer(dataset, "show count(bays) as n"), "4");
    for (const char* query : {"by bays.station_id show energy", "by sessions.label show energy",
                              "show energy where bays.station_id = \"1\"", "show sum(bays.n for bays) as n",
                              "show sum(count(sessions of b) for b in bays) as n", "show count(lanes) as n",
                              "show max(energy of b for b in bays) as m"}) {
      for (const Plan plan : {Plan::engine, Plan::naive}) {
        Question question{query, {}};
        question.plan = plan;
        const auto answer = ask(dataset, question);
        ASSERT_FALSE(answer) << query;
        EXPECT_EQ(test::codes(answer.error()), "JR-706") << query;
        EXPECT_NE(answer.error()[0].message.find("bays.bay_id is 7 in row 3"), std::string::npos)
            << answer.error()[0].message;
      }
      EXPECT_EQ(test::codes(against_sqlite(dataset, {query, {}}).error()), "JR-706") << query;
    }
    EXPECT_EQ(test::codes(sql(dataset, {"by bays.station_id show energy", {}}, SqlDialect::sqlite).error()), "JR-706");
    const auto agreement = against_sqlite(dataset, {"by tariffs.code show energy", {}});
    ASSERT_TRUE(agreement) << test::messages(agreement.error());
    EXPECT_TRUE(agreement->same());
  }
}

TEST(BrokenLinks, AreShownByLinksAndWeigh) {
  const Dataset dataset = network(repeated).open();
  const auto found = links(dataset);
  ASSERT_TRUE(found) << test::messages(found.error());
  EXPECT_EQ(found->links[0].broken.substr(0, 25), "bays.bay_id is 7 in row 3");
  EXPECT_EQ(found->links[0].many_rows, 3U);
  EXPECT_EQ(found->links[0].one_rows, 4U);
  EXPECT_EQ(found->links[1].broken, "");
  EXPECT_EQ(found->links[1].orphan_rows, 1U);
  EXPECT_TRUE(found->trims.empty()) << "nobody knows which bays are used";
  const std::string shown = render(report(*found));
  EXPECT_NE(shown.find("Broken links"), std::string::npos) << shown;
  std::uint64_t bytes = 0;
  const Weighing weighing = weigh(dataset).value();
  for (const TableWeight& table : weighing.tables) bytes += table.total_bytes();
  EXPECT_EQ(bytes + weighing.overhead_bytes, weighing.file_bytes);
}

TEST(BrokenLinks, AreErrorsWithStrict) {
  const test::SmallModel model = network(repeated);
  Options options;
  options.reading.strict = true;
  EXPECT_EQ(test::codes(load(model.path(), options).error()), "JR-515 JR-515");
  EXPECT_FALSE(std::filesystem::exists(model.folder.path("model.jrs")));
  ASSERT_TRUE(load(model.path()));
  EXPECT_EQ(test::codes(Dataset::open(model.path(), options).error()), "JR-515 JR-515");
  EXPECT_EQ(test::codes(Dataset::open(model.folder.path("model.jrs"), options).error()), "JR-515 JR-515");
}

TEST(BrokenLinks, MendedDataMendsThem) {
  const test::SmallModel model = network(repeated);
  ASSERT_TRUE(load(model.path()));
  model.folder.write("bays.csv", "bay_id,station_id\n7,1\n8,1\n");
  const Dataset dataset = model.open();
  EXPECT_EQ(test::messages(dataset.warnings()), "");
  EXPECT_EQ(test::answer(dataset, "by sessions.label show energy, sum(bays.n for sessions) as n"), "s1|6.5|5");
}

TEST(BrokenLinks, ANullKeyOnTheOneSideIsOnlyTold) {
  const Dataset dataset = network("bay_id,station_id\n7,1\n8,1\n,2\n,3\n").open();
  ASSERT_EQ(test::codes(dataset.warnings()), "JR-508") << test::messages(dataset.warnings());
  EXPECT_EQ(dataset.warnings()[0].message, "bays.bay_id is a key and null in 2 of 4 rows: no link leads to these");
  EXPECT_EQ(test::answer(dataset, "by bays.station_id show energy"), "1|6.5");
  EXPECT_EQ(links(dataset)->links[0].one_nulls, 2U);
}

TEST(BrokenLinks, TypesThatDifferBreakOneLink) {
  const test::SmallModel model(
      R"(
table sessions from csv "s.csv" { bay_id text  tariff text  kw = bays.kw  price = tariffs.price }
table bays from csv "b.csv" { key bay_id integer  kw integer }
table tariffs from csv "t.csv" { key code text  price decimal(2) }
link sessions.bay_id -> bays.bay_id
link sessions.tariff -> tariffs.code
measure n = count(sessions))",
      {{"s.csv", "bay_id,tariff\n1,A\n2,B\n"}, {"b.csv", "bay_id,kw\n1,10\n"}, {"t.csv", "code,price\nA,0.5\n"}});
  const Dataset dataset = model.open();
  ASSERT_EQ(test::codes(dataset.warnings()), "JR-216 JR-515") << test::messages(dataset.warnings());
  EXPECT_EQ(dataset.warnings()[0].message,
            "this link is broken: its columns have different types: sessions.bay_id is text, bays.bay_id is integer");
  EXPECT_EQ(test::answer(dataset, "by tariffs.code show n, sum(price for sessions) as p"), "A|1|0.50\nnull|1|null");
  EXPECT_EQ(test::codes(ask(dataset, {"by bays.kw show n", {}}).error()), "JR-706");
  EXPECT_EQ(links(dataset)->links[0].broken,
            "its columns have different types: sessions.bay_id is text, bays.bay_id is integer");
}

}  // namespace
}  // namespace juniper::broken_link_test
