#include <gtest/gtest.h>

#include "juniper/demo.h"
#include "juniper/refactor.h"
#include "refactor/text_edits.h"
#include "support/support.h"

namespace juniper::inline_test {
namespace {

std::string network(const std::string& columns, const std::string& rest) {
  return R"(model "m"   # the network
table sessions from csv "s.csv" {
  key id integer
  bay_id integer  tariff text  day date
  energy decimal(3)  idle integer
)" + columns +
         R"(}
table bays from csv "b.csv" { key bay_id integer  station_id integer  kw integer  strong = kw >= 100 }
table stations from csv "st.csv" { key station_id integer  region text  since date  age = years_between(since, date "2025-01-01") }
table tariffs from csv "t.csv" { key tariff text  price decimal(4) }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff -> tariffs.tariff
)" + rest;
}

test::SmallModel with_data(const std::string& text) {
  return {text,
          {{"s.csv",
            "id,bay_id,tariff,day,energy,idle\n1,1,D,2024-01-01,10.125,3\n2,2,N,2024-01-02,20.5,\n3,1,X,2024-01-03,7."
            "333,1\n4,9,D,2024-01-04,,0\n5,2,,2024-01-05,3.1,2\n6,3,N,2024-01-06,0.000,7\n"},
           {"b.csv", "bay_id,station_id,kw\n1,1,50\n2,2,150\n3,7,22\n"},
           {"st.csv", "station_id,region,since\n1,Coast,2020-03-01\n2,Upland,2021-06-15\n"},
           {"t.csv", "tariff,price\nD,0.4900\nN,0.4150\n"}}};
}

// The text after inlining, from `measure` on or from the table's calculated columns on.
std::string after(const Refactoring& r, const std::string& from) {
  return r.texts[0].after.substr(r.texts[0].after.find(from));
}

TEST(Inline, ThroughSeveralLevels) {
  const test::SmallModel model = with_data(
      network("  price = tariffs.price\n  value = round(energy * price, 2)  format \"0.00\"  # what it costs\n",
              "measure revenue = sum(value for sessions)  # total\nmeasure half = revenue / 2\nquery q { by "
              "stations.region show revenue, half total grand }\n"));
  const auto r = refactor(model.open(), "inline sessions.value");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(r->texts[0].after,
            network("",
                    "measure revenue = sum(round(energy * tariffs.price, 2) for sessions)  # total\nmeasure half = "
                    "revenue / 2\nquery q { by stations.region show revenue, half total grand }\n"));
  EXPECT_TRUE(r->proved());
  ASSERT_EQ(r->rows.size(), 2U);
  EXPECT_EQ(r->rows[0].column, "sessions.value");
  EXPECT_EQ(r->rows[0].rows, 6U);
  EXPECT_EQ(r->rows[0].differing, 0U);
  EXPECT_EQ(r->rows[1].expression, "tariffs.price");
  ASSERT_EQ(r->queries.size(), 1U);
  EXPECT_EQ(r->queries[0].comparison.cells, 8U);
  EXPECT_LT(r->ledger.bytes_after.total(), r->ledger.bytes_before.total());
  EXPECT_EQ(r->ledger.removed.size(), 2U);
  EXPECT_NE(r->diff.find("-measure revenue = sum(value for sessions)  # total\n+measure revenue = sum(round(energy * "
                         "tariffs.price, 2) for sessions)  # total"),
            std::string::npos)
      << r->diff;
}

TEST(Inline, BracketsKeepTheMeaning) {
  const test::SmallModel model = with_data(network(
      "  c = energy + idle\n  d = c\n",
      "measure a = sum(c * 2 for sessions) measure b = sum(-c for s in sessions where s.c > 1 and not (s.c = 5)) "
      "measure e = count(distinct d for sessions)\nquery q { show a, b, e, x = max(10 - sessions.c for sessions) }\n"));
  const auto r = refactor(model.open(), "inline sessions.d");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(
      after(*r, "measure a"),
      "measure a = sum((energy + idle) * 2 for sessions) measure b = sum(-(energy + idle) for s in sessions where "
      "(energy + idle) > 1 and not ((energy + idle) = 5)) measure e = count(distinct energy + idle for sessions)\n"
      "query q { show a, b, e, x = max(10 - (energy + idle) for sessions) }\n");
  EXPECT_TRUE(r->proved());
}

TEST(Inline, SeenFromOtherTables) {
  const test::SmallModel model = with_data(
      network("  twice = stations.age * 2\n",
              "measure m = sum(bays.stations.age + energy for sessions) measure k = max(stations.age for bays) measure "
              "o = max(age for stations) measure t = sum(twice for sessions)\nquery q { show m, k, o, t }\n"));
  const auto r = refactor(model.open(), "inline stations.age");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(
      after(*r, "measure m"),
      "measure m = sum(age(stations.since) + energy for sessions) measure k = max(age(stations.since) for bays) "
      "measure o = max(age(since) for stations) measure t = sum(twice for sessions)\nquery q { show m, k, o, t }\n");
  EXPECT_NE(r->texts[0].after.find("  twice = years_between(stations.since, date \"2025-01-01\") * 2\n"),
            std::string::npos);
  EXPECT_NE(r->texts[0].after.find("\nfunction age(since) = years_between(since, date \"2025-01-01\")\ntable tariffs"),
            std::string::npos)
      << r->texts[0].after;
  EXPECT_NE(r->texts[0].after.find("key station_id integer  region text  since date  }"), std::string::npos)
      << r->texts[0].after;
  EXPECT_TRUE(r->proved());
  ASSERT_EQ(r->rows.size(), 2U);
  EXPECT_TRUE(r->rows[0].removed);
  EXPECT_FALSE(r->rows[1].removed);
  EXPECT_EQ(r->rows[1].column, "sessions.twice");
}

// What several measures need is one function, with the column's description, behind its table; what one measure needs, or
// is as short as a name, is spelled out.
TEST(Inline, WhatSeveralMeasuresNeedIsAFunction) {
  const test::SmallModel model = with_data(network(
      "  value = round(energy * tariffs.price, 2) - coalesce(idle * 0.10, 0)  \"What a session costs\"\n"
      "  short = idle + 1\n  once = round(energy * tariffs.price, 1) * 2\n",
      "measure revenue = sum(value for sessions)\nmeasure dearest = max(s.value for s in sessions where s.value > 1)\n"
      "measure waits = sum(short for sessions) measure longest = max(short for sessions)\n"
      "measure one = sum(once for sessions)\n"
      "query q { by stations.region show revenue, dearest, waits, longest, one total grand }\n"));
  const auto r = refactor(model.open(), "inline sessions.value inline sessions.short inline sessions.once");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(
      r->texts[0].after,
      network("",
              "measure revenue = sum(value(energy, tariffs.price, idle) for sessions)\n"
              "measure dearest = max(value(energy, tariffs.price, idle) for s in sessions where "
              "value(energy, tariffs.price, idle) > 1)\n"
              "measure waits = sum(idle + 1 for sessions) measure longest = max(idle + 1 for sessions)\n"
              "measure one = sum(round(energy * tariffs.price, 1) * 2 for sessions)\n"
              "query q { by stations.region show revenue, dearest, waits, longest, one total grand }\n")
          .replace(r->texts[0].after.find("\n\nfunction"), 0,
                   "\n\nfunction value(energy, price, idle) = round(energy * price, 2) - coalesce(idle * 0.10, 0) "
                   "\"What a session costs\""));
}

// A function's name and those of its arguments are free ones.
TEST(Inline, AFunctionTakesNoNameThatIsTaken) {
  const test::SmallModel model = with_data(network(
      "  cost = bays.kw * stations.station_id * bays.station_id + energy * low\n",
      "param low = 2\nmeasure cost = sum(sessions.cost for sessions)\nmeasure most = max(sessions.cost for sessions)\n"
      "query q { show cost, most }\n"));
  const auto r = refactor(model.open(), "inline sessions.cost");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_NE(r->texts[0].after.find("function sessions_cost(kw, station_id, station_id_2, energy) = kw * station_id * "
                                   "station_id_2 + energy * low\n"),
            std::string::npos)
      << r->texts[0].after;
}

TEST(Inline, ALevelBelowStaysWhenSomethingElseNeedsIt) {
  const test::SmallModel model = with_data(network(
      "  price = tariffs.price\n  value = energy * price\n  size = if value > 3 then \"big\" else \"small\"\n",
      "measure revenue = sum(value for sessions)\nquery q { show revenue where sessions.price >= 0 }\nquery s { by "
      "sessions.size show revenue }\n"));
  const auto r = refactor(model.open(), "inline sessions.value");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_NE(r->texts[0].after.find("  price = tariffs.price\n  size = if (energy * price) > 3 then"), std::string::npos)
      << r->texts[0].after;
  EXPECT_NE(r->texts[0].after.find("sum(energy * price for sessions)"), std::string::npos);
  EXPECT_TRUE(r->proved());
}

struct Blocked {
  std::string columns;
  std::string rest;
  std::string column;
  std::string code;
  std::string says;
};

TEST(Inline, WhatBlocksItIsSaidByNameAndLine) {
  for (const Blocked& b :
       {Blocked{"  c = idle + 1 format \"0\"\n", "measure m = sum(c for sessions)\nquery q { by sessions.c show m }\n",
                "sessions.c", "JR-803", "query 'q' groups by it"},
        Blocked{"  c = idle + 1\n", "measure m = sum(c for sessions)\nquery q { show m where sessions.c > 1 }\n",
                "sessions.c", "JR-803", "query 'q' filters by it"},
        Blocked{"  c = idle + 1  name = tariff || \"x\" sorted by c\n", "measure m = sum(c for sessions)\n",
                "sessions.c", "JR-803", "sessions.name is sorted by it"},
        Blocked{"  c = bay_id + 0\n", "link sessions.c -> bays.bay_id as other\nmeasure m = sum(c for sessions)\n",
                "sessions.c", "JR-803", "the link sessions.c -> bays.bay_id as other needs it"},
        Blocked{"  c = idle + 1 used by \"finance\"\n", "measure m = sum(c for sessions)\n", "sessions.c", "JR-803",
                "\"finance\" uses it"},
        Blocked{"  c = sum(s.idle for s in sessions)\n", "measure m = max(c for sessions)\n", "sessions.c", "JR-803",
                "holds an aggregate"},
        Blocked{"  key c = id\n", "measure m = max(c for sessions)\n", "sessions.c", "JR-803", "it is a key"},
        Blocked{"", "measure m = sum(idle for sessions)\n", "sessions.idle", "JR-802", "read from the source"},
        Blocked{"", "", "sessions.idel", "JR-801", "there is no column 'idel'"},
        Blocked{"", "", "session.idle", "JR-801", "there is no table 'session'"},
        Blocked{"", "", "idle", "JR-801", "does not name a column"}}) {
    const test::SmallModel model = with_data(network(b.columns, b.rest + "query all { show count(sessions) }\n"));
    const auto r = refactor(model.open(), "inline " + b.column);
    ASSERT_FALSE(r) << b.says;
    EXPECT_EQ(r.error()[0].code, b.code);
    EXPECT_NE(r.error()[0].message.find(b.says), std::string::npos) << test::messages(r.error());
    EXPECT_EQ(r.error()[0].place.line != 0, b.code != "JR-801" || b.column == "idle");
  }
}

TEST(Inline, AllBlockersAtOnce) {
  const test::SmallModel model = with_data(network(
      "  c = idle + 1\n",
      "measure m = sum(c for sessions)\nquery q { by sessions.c show m where sessions.c > 1 and sessions.c < 9 }\n"));
  EXPECT_EQ(test::codes(refactor(model.open(), "inline sessions.c").error()), "JR-803 JR-803");
}

// A row that is called like a table: written in, the name would mean the row.
TEST(Inline, ANameThatWouldBeReadDifferentlyIsRefused) {
  const test::SmallModel model = with_data(
      network("  c = tariffs.price\n", "measure m = sum(sum(c * 2 for tariffs) for sessions)\nquery q { show m }\n"));
  const auto r = refactor(model.open(), "inline sessions.c");
  ASSERT_FALSE(r);
  EXPECT_EQ(test::codes(r.error()), "JR-803 JR-212") << test::messages(r.error());
}

TEST(Inline, IntoIncludedFilesAndDrafts) {
  const test::SmallModel included = with_data(
      network("  c = idle + 1\n", "include \"more.ridge\"\nmeasure m = sum(c for sessions)\nquery q { show m, n }\n"));
  included.folder.write("more.ridge", "measure n = max(c for sessions)  # the largest\n");
  const Dataset several = included.open();
  const auto r = refactor(several, "inline sessions.c");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  ASSERT_EQ(r->texts.size(), 2U);
  EXPECT_EQ(r->texts[1].after, "measure n = max(idle + 1 for sessions)  # the largest\n");
  ASSERT_TRUE(write(several, *r));
  EXPECT_EQ(test::read_file(included.folder.path("more.ridge")), r->texts[1].after);
  EXPECT_FALSE(load(included.path())->loaded);

  const test::SmallModel drafted = with_data(network("  c = idle + 1\n",
                                                     "measure m = sum(c for sessions)\nquery q { with measure m = "
                                                     "max(c for sessions) with measure k = m + 1 show m, k }\n"));
  const auto d = refactor(drafted.open(), "inline sessions.c");
  ASSERT_TRUE(d) << test::messages(d.error());
  EXPECT_TRUE(d->proved());
  EXPECT_EQ(
      after(*d, "measure m"),
      "measure m = sum(idle + 1 for sessions)\nquery q { with measure m = max(idle + 1 for sessions) with measure "
      "k = m + 1 show m, k }\n");
}

TEST(Inline, WritesTextAndStoreOnlyWhenAsked) {
  const test::SmallModel model =
      with_data(network("  c = idle + 1\n", "measure m = sum(c for sessions)\nquery q { show m }\n"));
  const Dataset dataset = model.open();
  const std::string before = test::read_file(model.path());
  const auto r = refactor(dataset, "inline sessions.c");
  ASSERT_TRUE(r);
  EXPECT_EQ(test::read_file(model.path()), before);
  ASSERT_TRUE(write(dataset, *r));
  EXPECT_EQ(test::read_file(model.path()), r->texts[0].after);
  EXPECT_FALSE(load(model.path())->loaded);  // the store fits the new text already
  EXPECT_EQ(std::filesystem::file_size(model.folder.path("model.jrs")), r->ledger.bytes_after.total());
  EXPECT_EQ(test::answer(model.open(), "q"), "18");
  EXPECT_TRUE(load(model.path(), {}, {Reload::always, ""})->loaded);
  EXPECT_EQ(test::answer(model.open(), "q"), "18");
}

TEST(Inline, RefusesToWriteOverAnotherChangeOrWithoutProof) {
  const test::SmallModel model =
      with_data(network("  c = idle + 1\n", "measure m = sum(c for sessions)\nquery q { show m }\n"));
  const Dataset dataset = model.open();
  auto r = refactor(dataset, "inline sessions.c");
  ASSERT_TRUE(r);
  Refactoring unproved = *r;
  unproved.rows[0].differing = 1;
  EXPECT_EQ(write(dataset, unproved).error()[0].code, "JR-804");
  model.folder.write("model.ridge", r->texts[0].before + "# somebody was here\n");
  EXPECT_EQ(write(dataset, *r).error()[0].code, "JR-805");
}

// Every calculated column of the demo that can be inlined keeps every row and every query.
TEST(Inline, EveryColumnOfTheDemo) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {2000, 3}));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset);
  RefactorSettings settings;
  if (test::is_sanitized) settings.most_probes = 20;
  int proved = 0;
  for (const char* column : {"unit_price", "energy_charge", "idle_charge", "gross", "price_paid"}) {
    const auto r = refactor(*dataset, std::string("inline sessions.") + column, settings);
    ASSERT_TRUE(r) << test::messages(r.error());
    EXPECT_TRUE(r->proved()) << column;
    proved += r->proved() ? 1 : 0;
  }
  EXPECT_EQ(proved, 5);
  EXPECT_EQ(refactor(*dataset, "inline sessions.price_paid", settings)->ledger.removed.size(), 5U);
  // What a query groups by is written into its key.
  const auto grouped = refactor(*dataset, "inline sessions.size_class", settings);
  ASSERT_TRUE(grouped) << test::messages(grouped.error());
  EXPECT_TRUE(grouped->proved());
  EXPECT_NE(grouped->diff.find("by    case when sessions.energy_kwh >= 40 then"), std::string::npos) << grouped->diff;
  EXPECT_EQ(refactor(*dataset, "inline bays.n_started").error()[0].code, "JR-803");
}

// In keys the result's column keeps its name, rows without a match stay under null, and what orders or formats stays.
TEST(Inline, ColumnsThatQueriesGroupBy) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  x decimal(1)  d_id integer\n"
      "  band = if x > 5 then \"high\" else \"low\"\n  both = band || d.class }\n"
      "table d from csv \"d.csv\" { key d_id integer  size integer  class = if size > 1 then \"wide\" else \"narrow\"\n"
      "  rank = size * 2  label = if size > 1 then \"b\" else \"a\" sorted by rank  shown = size * 3 format \"0.0\" }\n"
      "link t.d_id -> d.d_id\nmeasure n = count(t)\n"
      "query a { by t.band show n total grand sort t.band desc }\nquery b { by t.band as key, d.class show n total "
      "d.class }\n"
      "query c { by length(t.both) + 1 as k show n }\nquery e { by d.label, d.shown show n }\n",
      {{"t.csv", "id,x,d_id\n1,3.5,1\n2,7.5,2\n3,9.0,9\n4,,\n5,1.0,2\n"}, {"d.csv", "d_id,size\n1,1\n2,2\n"}});
  const Dataset dataset = model.open();
  for (const char* const step :
       {"inline t.band", "inline d.class", "inline t.both", "inline t.both inline t.band inline d.class"}) {
    const auto r = refactor(dataset, step);
    ASSERT_TRUE(r) << step << test::messages(r.error());
    EXPECT_TRUE(r->proved()) << step << r->diff;
  }
  const auto all = refactor(dataset, "inline t.both inline t.band inline d.class");
  EXPECT_NE(all->diff.find("as `t.band`"), std::string::npos) << all->diff;
  EXPECT_NE(all->diff.find("case when d.d_id is not null then"), std::string::npos) << all->diff;
  EXPECT_EQ(refactor(dataset, "inline d.label").error()[0].code, "JR-803");
  EXPECT_EQ(refactor(dataset, "inline d.shown").error()[0].code, "JR-803");
}

TEST(TextEdits, RemoveWholeLinesWhereNothingElseStands) {
  const auto removed = [](std::string text, const std::string& part) {
    refactoring::TextEdits edits;
    const auto at = static_cast<std::uint32_t>(text.find(part));
    edits.remove_declaration(text, {0, at, at + static_cast<std::uint32_t>(part.size())});
    return edits.apply(text, {0, 0, static_cast<std::uint32_t>(text.size())});
  };
  EXPECT_EQ(removed("a\n  xx\nb\n", "xx"), "a\nb\n");
  EXPECT_EQ(removed("a\n  xx  # note\nb\n", "xx"), "a\nb\n");
  EXPECT_EQ(removed("a\r\n  xx\r\nb\r\n", "xx"), "a\r\nb\r\n");
  EXPECT_EQ(removed("a xx b\n", "xx"), "a b\n");
  EXPECT_EQ(removed("{ xx }", "xx"), "{ }");
  EXPECT_EQ(removed("xx", "xx"), "");
  EXPECT_EQ(removed("x1\nxx", "xx"), "x1\n");
}

TEST(TextEdits, ADiffShowsWhatChanged) {
  EXPECT_EQ(refactoring::unified_diff("a\nb\n", "a\nb\n", "f"), "");
  const std::string diff =
      refactoring::unified_diff("1\n2\n3\n4\n5\n6\n7\n8\n9\n", "1\n2\n3\n4\nfive\n6\n7\n8\n9\n", "f.ridge");
  EXPECT_EQ(diff, "--- f.ridge\n+++ f.ridge (proposed)\n@@ -2,8 +2,8 @@\n 2\n 3\n 4\n-5\n+five\n 6\n 7\n 8\n 9\n");
}

}  // namespace
}  // namespace juniper::inline_test
