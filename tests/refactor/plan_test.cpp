// Plans of several steps: what comes out, what is proved, what is refused.
#include <gtest/gtest.h>

#include "juniper/refactor.h"
#include "juniper/report.h"
#include "refactor/plan.h"
#include "support/support.h"

namespace juniper::plan_test {
namespace {

constexpr const char* sessions_csv =
    "id,bay_id,started,level,reading,note\n"
    "1,1,2024-01-31 08:30:00,046,10.1250,a\n"
    "2,2,2024-02-29 23:59:59,100,20.5000,b\n"
    "3,1,2024-02-29T00:00:00,7,0.3300,a\n"
    "4,9,,,,\n";
constexpr const char* canonical_csv =
    "id,bay_id,started,level,reading,note\n"
    "1,1,2024-01-31 08:30:00,46,10.1250,a\n"
    "2,2,2024-02-29 23:59:59,100,20.5000,b\n"
    "3,1,2024-02-29T00:00:00,7,0.3300,a\n"
    "4,9,,,,\n";

test::SmallModel network(const std::string& rest, const char* sessions = canonical_csv) {
  return {R"(# A network
table sessions from csv "s.csv" {
  key id       integer
      bay_id   integer
      started  datetime    "When it began"  # local time
      level    text
      reading  decimal(4)
      note     text
}
table bays from csv "b.csv" { key bay_id integer  region text }
link sessions.bay_id -> bays.bay_id
)" + rest,
          {{"s.csv", sessions}, {"b.csv", "bay_id,region\n1,Coast\n2,Upland\n"}}};
}

// What a refactoring made of a line of the text, found by its begin.
std::string line(const Refactoring& r, const std::string& begin) {
  const std::string& text = r.texts[0].after;
  const std::size_t at = text.find(begin);
  return at == std::string::npos ? "" : text.substr(at, text.find('\n', at) - at);
}

void expect_refused(const test::SmallModel& model, const std::string& plan, const std::string& code,
                    const std::string& says) {
  const auto r = refactor(model.open(), plan);
  ASSERT_FALSE(r) << plan;
  EXPECT_EQ(r.error()[0].code, code) << plan << "\n" << test::messages(r.error());
  EXPECT_NE(test::messages(r.error()).find(says), std::string::npos) << plan << "\n" << test::messages(r.error());
}

// Writes the change, loads it anew from its sources, and asks.
void expect_answer(const test::SmallModel& model, const Refactoring& r, const std::string& query,
                   const std::string& rows) {
  const Dataset dataset = model.open();
  const auto written = write(dataset, r);
  ASSERT_TRUE(written) << test::messages(written.error());
  EXPECT_FALSE(load(model.path())->loaded);  // the store that was written fits the text
  EXPECT_EQ(test::answer(model.open(), query), rows);
  ASSERT_TRUE(load(model.path(), {}, {Reload::always, ""}));
  EXPECT_EQ(test::answer(model.open(), query), rows);
}

TEST(Plan, IsReadStepByStep) {
  const auto steps = refactoring::parse_plan(
      "inline a.b drop `the measure` store t.fee = round(x, 2) + (case when store then 1 end) split a.at into (d, "
      "`t i`) retype a.c decimal(2)\nround a.d integer");
  ASSERT_TRUE(steps) << test::messages(steps.error());
  ASSERT_EQ(steps->size(), 6U);
  EXPECT_EQ((*steps)[0].table + "|" + (*steps)[0].column, "a|b");
  EXPECT_EQ((*steps)[1].table + "|" + (*steps)[1].column, "|the measure");
  EXPECT_EQ((*steps)[2].expression, "round(x, 2) + (case when store then 1 end)");
  EXPECT_EQ((*steps)[3].date_name + "|" + (*steps)[3].time_name, "d|t i");
  EXPECT_EQ(to_string((*steps)[4].type), "decimal(2)");
  EXPECT_EQ((*steps)[5].text, "round a.d integer");
  for (const char* wrong : {"", "move a.b", "inline", "inline a", "inline a.", "retype a.b", "retype a.b money",
                            "split a.b into (c)", "store a.b", "store a.b =", "drop", "drop a.b c"}) {
    EXPECT_FALSE(refactoring::parse_plan(wrong)) << wrong;
  }
}

TEST(Plan, ATimestampIsSplitWhereverItIsRead) {
  const test::SmallModel model = network(
      "measure early = count(sessions where hour(started) < 12)\n"
      "measure days = count(distinct date(s.started) for s in sessions)\n"
      "measure last_at = max(started for sessions)\n"
      "measure old = (early where sessions.started < datetime \"2024-02-01 00:00:00\")\n"
      "query q { by bays.region show early, days, last_at, old where year(sessions.started) = 2024 }\n");
  const std::string rows = test::answer(model.open(), "q");
  const auto r = refactor(model.open(), "split sessions.started");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(line(*r, "      started_date"), "      started_date date from date(\"started\")  \"When it began\"");
  EXPECT_EQ(line(*r, "      started_time"),
            "      started_time time from time(\"started\")  \"When it began\"  # local time");
  EXPECT_EQ(line(*r, "measure early"), "measure early = count(sessions where hour(started_time) < 12)");
  EXPECT_EQ(line(*r, "measure days"), "measure days = count(distinct s.started_date for s in sessions)");
  EXPECT_EQ(line(*r, "measure last_at"), "measure last_at = max(datetime(started_date, started_time) for sessions)");
  EXPECT_EQ(line(*r, "measure old"),
            "measure old = (early where datetime(sessions.started_date, sessions.started_time) < datetime "
            "\"2024-02-01 00:00:00\")");
  EXPECT_NE(r->texts[0].after.find("where year(sessions.started_date) = 2024"), std::string::npos);
  ASSERT_EQ(r->rows.size(), 1U);
  EXPECT_EQ(r->rows[0].rows, 4U);
  EXPECT_EQ(r->probes.measures, (std::vector<std::string>{"early", "days", "last_at", "old"}));
  EXPECT_GT(r->probes.cells, 20U);
  EXPECT_FALSE(r->probes.cut_short());
  EXPECT_EQ(r->ledger.removed.size(), 1U);
  EXPECT_EQ(r->ledger.added.size(), 2U);
  expect_answer(model, *r, "q", rows);
}

TEST(Plan, WhatNeedsATimestampWholeBlocksItsSplitting) {
  const std::string measure = "measure n = count(sessions)\n";
  for (const auto& [rest, says] : std::vector<std::pair<std::string, std::string>>{
           {"query q { by sessions.started show n }\n", "query 'q' groups by it"},
           {"measure a = (n across sessions.started)\n", "filters on it are dropped here"},
           {"measure a = count(distinct(sessions.started))\n", "rows are told apart by it"},
           {"table times = distinct(sessions.started)\n", "the calculated table times needs it"}}) {
    expect_refused(network(measure + rest), "split sessions.started", "JR-803", says);
  }
  expect_refused(network(measure), "split sessions.level", "JR-802", "is of type text");
  expect_refused(network(measure), "split sessions.started into (level, t)", "JR-803", "has a column 'level' already");
  expect_refused(network(measure), "split bays.started", "JR-801", "there is no column 'started'");
}

TEST(Plan, ATypeThatHoldsTheSameValuesIsProved) {
  const test::SmallModel model = network("measure m = sum(reading for sessions)\nquery q { show m }\n");
  const auto r = refactor(model.open(), "retype sessions.level integer retype sessions.reading decimal(3)");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(line(*r, "      level"), "      level    integer");
  // The sum has another type now, and is the same number.
  ASSERT_EQ(r->rows.size(), 2U);
  EXPECT_EQ(r->rows[0].differing + r->rows[1].differing, 0U);
  const auto alone = refactor(model.open(), "retype sessions.level integer");
  ASSERT_TRUE(alone);
  EXPECT_TRUE(alone->proved());
  expect_answer(model, *alone, "q", "30.9550");
}

TEST(Plan, ATextThatIsMoreThanItsNumberIsNoNumber) {
  const test::SmallModel model = network("measure n = count(sessions)\nquery q { show n }\n", sessions_csv);
  const auto r = refactor(model.open(), "retype sessions.level integer");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_FALSE(r->proved());
  EXPECT_EQ(r->rows[0].differing, 1U);
  EXPECT_EQ(r->rows[0].samples, std::vector<std::string>{"row 1: stored 046, now 46"});
  EXPECT_EQ(write(model.open(), *r).error()[0].code, "JR-804");
  expect_refused(model, "retype sessions.note integer", "JR-507", "found \"a\"");
  expect_refused(model, "retype sessions.reading decimal(2)", "JR-507", "at most 2 digits");
  expect_refused(model, "retype sessions.started date", "JR-802", "can't go from datetime to date");
  expect_refused(model, "retype sessions.bay_id decimal(1)", "JR-803", "sessions.bay_id");
}

TEST(Plan, RoundingIsProvedOnlyWhereNobodyCanTell) {
  const test::SmallModel unread = network("measure n = count(sessions)\nquery q { show n }\n");
  const auto r = refactor(unread.open(), "round sessions.reading decimal(1)");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(line(*r, "      reading"), "      reading  decimal(1) from round(\"reading\")");
  expect_answer(unread, *r, "by sessions.id, sessions.reading show n", "1|10.1|1\n2|20.5|1\n3|0.3|1\n4|null|1");
  const test::SmallModel read = network("measure m = max(round(reading * 1000, 0) for sessions)\n");
  const auto changed = refactor(read.open(), "round sessions.reading decimal(2)");
  ASSERT_TRUE(changed);
  EXPECT_TRUE(changed->queries.empty());
  EXPECT_FALSE(changed->proved()) << "a probe by sessions.id shows 10.13 for 10.125";
  ASSERT_FALSE(changed->probes.differing.empty());
  expect_refused(read, "round sessions.reading decimal(4)", "JR-802", "can't be rounded");
  expect_refused(read, "round sessions.note decimal(1)", "JR-802", "can't be rounded");
}

TEST(Plan, WhatMeasuresComputeAgainAndAgainIsStored) {
  const test::SmallModel good = network(
      "measure a = sum(round(reading * 2, 1) for sessions)\n"
      "measure b = max(10 - (round(s.reading * 2, 1)) for s in sessions where round(s.reading * 2, 1) > 1)\n"
      "query q { by bays.region show a, b }\n");
  const std::string rows = test::answer(good.open(), "q");
  const auto r = refactor(good.open(), "store sessions.twice = round(reading * 2, 1)");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_NE(r->texts[0].after.find("      note     text\n  twice = round(reading * 2, 1)\n}\n"), std::string::npos);
  EXPECT_EQ(line(*r, "measure a"), "measure a = sum(twice for sessions)");
  EXPECT_EQ(line(*r, "measure b"), "measure b = max(10 - s.twice for s in sessions where s.twice > 1)");
  EXPECT_EQ(r->rows[0].rows, 4U);
  expect_answer(good, *r, "q", rows);
  // And back.
  const auto back = refactor(good.open(), "inline sessions.twice");
  ASSERT_TRUE(back) << test::messages(back.error());
  EXPECT_TRUE(back->proved());
  EXPECT_EQ(line(*back, "measure a"), "measure a = sum(round(reading * 2, 1) for sessions)");
  expect_refused(good, "store sessions.x = reading * 3", "JR-802", "no measure and no column computes");
  expect_refused(good, "store sessions.note = reading * 2", "JR-803", "has a column 'note' already");
  expect_refused(good, "store sessins.x = 1", "JR-801", "there is no table 'sessins'");
}

TEST(Plan, WhatNothingUsesIsDropped) {
  const test::SmallModel model = network(
      "measure n = count(sessions)\nmeasure spare = n + 1\nmeasure used = n used by \"finance\"\nquery q { by "
      "bays.region show n }\n");
  const auto r = refactor(model.open(), "drop sessions.note drop spare drop sessions.started drop sessions.id");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(r->texts[0].after.find("note"), std::string::npos);
  EXPECT_EQ(r->texts[0].after.find("spare"), std::string::npos);
  EXPECT_EQ(r->texts[0].after.find("local time"), std::string::npos);
  EXPECT_TRUE(r->probes.measures.empty());
  ASSERT_EQ(r->notes.size(), 1U);  // sessions.id told equal rows apart
  EXPECT_NE(r->notes[0].find("sessions.id is of the key of sessions"), std::string::npos);
  expect_answer(model, *r, "q", "Coast|2\nUpland|1\nnull|1");
  expect_refused(model, "drop n", "JR-803", "it is named here");
  expect_refused(model, "drop used", "JR-803", "\"finance\" uses it");
  expect_refused(model, "drop bays.region", "JR-803", "the query q uses it");
  expect_refused(model, "drop bays.bay_id", "JR-803", "the link sessions.bay_id -> bays.bay_id uses it");
  expect_refused(model, "drop nothing", "JR-801", "there is no measure 'nothing'");
  expect_refused(network("measure f = first(level by reading for sessions)\n"), "drop sessions.id", "JR-803",
                 "which comes first");
}

TEST(Plan, StepsGoInAnOrderThatWorks) {
  const test::SmallModel model = network(
      "measure kept = count(sessions)\nmeasure under = count(sessions where hour(started) > 3)\nmeasure over = under + "
      "1\nquery q { show kept }\n");
  const auto r = refactor(model.open(), "drop under drop over drop sessions.started");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(r->title, "drop over, drop under, drop sessions.started");
  EXPECT_TRUE(r->proved());
  const test::SmallModel chain = {
      "table t from csv \"t.csv\" { key id integer  x decimal(1)  at datetime\n  a = x * 2\n  b = a + hour(at)\n}\n"
      "measure m = sum(b for t)\nquery q { show m }\n",
      {{"t.csv", "id,x,at\n1,0.5,2024-01-01 10:00:00\n2,,2024-01-01 11:00:00\n3,1.5,2024-01-02 12:30:00\n"}}};
  const auto both = refactor(chain.open(), "drop t.id split t.at inline t.b inline t.a");
  ASSERT_TRUE(both) << test::messages(both.error());
  EXPECT_EQ(both->title, "inline t.b, split t.at, drop t.id");
  ASSERT_EQ(both->notes.size(), 2U);
  EXPECT_EQ(both->notes[0], "'inline t.a' was done by a step before it");
  EXPECT_NE(both->notes[1].find("t.id is of the key of t"), std::string::npos);
  EXPECT_TRUE(both->proved());
  EXPECT_NE(both->texts[0].after.find("measure m = sum((x * 2) + hour(at_time) for t)"), std::string::npos)
      << both->texts[0].after;
  expect_answer(chain, *both, "q", "26.0");
}

TEST(Plan, TrimLeavesOutWhatNoLinkLeadsTo) {
  const char* const sessions =
      "id,bay_id,started,level,reading,note\n1,1,2024-01-31 08:30:00,46,10.1250,a\n2,9,,,,\n3,,,,,b\n";
  const std::string rest =
      "measure n = count(sessions)\nmeasure last_region = max(bays.region for sessions)\n"
      "query q { by bays.region show n, last_region total grand }\n";
  const test::SmallModel model = network(rest, sessions);
  const auto r = refactor(model.open(), "trim bays");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(line(*r, "table bays"),
            "table bays from csv \"b.csv\" reached from sessions { key bay_id integer  region text }");
  EXPECT_EQ(r->rows[0].rows, 3U);
  EXPECT_EQ(r->probes.measures, (std::vector<std::string>{"n", "last_region"}));
  EXPECT_GT(r->probes.asked, 0U);
  expect_answer(model, *r, "show count(bays) as n_bays", "1");
  expect_refused(model, "trim bays", "JR-802", "is trimmed already");
  expect_refused(network(rest + "measure b = count(bays)\n"), "trim bays", "JR-803", "they are looked at here");
  expect_refused(network(rest + "measure b = let (all = bays across everything) count(all)\n"), "trim bays", "JR-803",
                 "they are looked at here");
  expect_refused(network(rest + "query list { from bays by bays.region show n }\n"), "trim bays", "JR-803",
                 "query 'list' lists them");
  expect_refused(network(rest + "table regions = distinct(bays.region)\n"), "trim bays", "JR-803",
                 "regions is made of them");
  expect_refused(model, "trim sessions", "JR-802", "no link leads to sessions");
  expect_refused(model, "trim bay", "JR-801", "there is no table 'bay'");
}

TEST(Plan, ReorderSortsRowsAndChangesNoAnswer) {
  const test::SmallModel model =
      network("measure n = sum(reading for sessions)\nquery q { by sessions.note show n }\n");
  const auto r = refactor(model.open(), "reorder sessions by (note, bay_id) retype sessions.level integer");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_EQ(r->title, "retype sessions.level integer, reorder sessions by (note, bay_id)");
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(line(*r, "table sessions"), "table sessions from csv \"s.csv\" sorted by (note, bay_id) {");
  EXPECT_EQ(r->rows.size(), 2U);
  expect_answer(model, *r, "q", "a|10.4550\nb|20.5000");
  const auto again = refactor(model.open(), "reorder sessions by id");
  ASSERT_TRUE(again) << test::messages(again.error());
  EXPECT_TRUE(again->proved());
  EXPECT_EQ(line(*again, "table sessions"), "table sessions from csv \"s.csv\" sorted by id {");
  expect_refused(model, "reorder sessions by nothing", "JR-801", "there is no column 'nothing'");
  EXPECT_EQ(test::codes(refactor(model.open(), "reorder sessions").error()), "JR-807");
}

// Sites and lanes, and a place that is put together from them.
test::SmallModel places(const std::string& separator, const std::string& sessions, const std::string& places,
                        const std::string& rest = "") {
  return {
      "table sessions from csv \"s.csv\" { key id integer  site text  lane text  kwh integer\n"
      "  place = site || \"" +
          separator +
          "\" || lane  # for the link\n}\n"
          "table places from csv \"p.csv\" { site text  lane text  name text\n  key place = site || \"" +
          separator +
          "\" || lane\n}\n"
          "link sessions.place -> places.place\nmeasure kwh = sum(kwh for sessions)\n"
          "query q { by places.name show kwh }\n" +
          rest,
      {{"s.csv", "id,site,lane,kwh\n" + sessions}, {"p.csv", "site,lane,name\n" + places}}};
}

TEST(Plan, RelinkNeedsNoConcatenatedKey) {
  const test::SmallModel model =
      places("-", "1,N,1,10\n2,N,2,20\n3,S,1,40\n4,,1,80\n5,X,9,160\n", "N,1,quay\nN,2,gate\nS,1,yard\n");
  const auto r = refactor(model.open(), "relink sessions.place");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_TRUE(r->proved());
  EXPECT_EQ(line(*r, "link "), "link sessions.(site, lane) -> places.(site, lane)");
  EXPECT_EQ(r->texts[0].after.find("place ="), std::string::npos) << r->texts[0].after;
  EXPECT_EQ(r->rows[0].rows, 5U);
  EXPECT_GT(r->probes.asked, 0U);
  expect_answer(model, *r, "q", "gate|20\nquay|10\nyard|40\nnull|240");

  const test::SmallModel used = places("-", "1,N,1,10\n", "N,1,quay\n", "query p { by sessions.place show kwh }\n");
  const auto kept = refactor(used.open(), "relink sessions.place");
  ASSERT_TRUE(kept) << test::messages(kept.error());
  EXPECT_TRUE(kept->proved());
  EXPECT_NE(kept->texts[0].after.find("place = site || \"-\" || lane  # for the link"), std::string::npos);
  EXPECT_EQ(kept->notes.size(), 1U);
  expect_refused(used, "relink sessions.kwh", "JR-802", "is in no link");
}

TEST(Plan, ADifferenceIsNarrowedDown) {
  // The glued key of session 5 meets a place that its parts do not.
  const test::SmallModel model =
      places("", "1,N,1,10\n2,S,2,20\n3,S,3,40\n4,,1,80\n5,N1,1,160\n", "N,1,quay\nS,2,gate\nN,11,yard\n");
  const auto r = refactor(model.open(), "relink sessions.place");
  ASSERT_TRUE(r) << test::messages(r.error());
  EXPECT_FALSE(r->proved());
  ASSERT_EQ(r->differences.size(), 1U);
  EXPECT_EQ(r->differences[0].measure, "kwh");
  ASSERT_FALSE(r->differences[0].sources.empty());
  EXPECT_EQ(r->differences[0].sources[0].column, "places.lane");
  EXPECT_NE(render(report(*r)).find("The difference of kwh"), std::string::npos);
}

TEST(Plan, SqliteIsAskedToo) {
  const test::SmallModel model =
      network("measure n = sum(reading * 2 for sessions)\nquery q { by sessions.note show n total grand }\n");
  RefactorSettings settings;
  settings.against = Against::sqlite;
  const auto r = refactor(model.open(), "store 'sessions.twice = reading * 2'", settings);
  ASSERT_FALSE(r);  // a quoted step is no step
  const auto stored = refactor(model.open(), "store sessions.twice = reading * 2 drop sessions.level", settings);
  ASSERT_TRUE(stored) << test::messages(stored.error());
  EXPECT_TRUE(stored->proved());
  ASSERT_EQ(stored->sqlite.size(), 2U);
  EXPECT_EQ(stored->sqlite[0].query, "q");
  EXPECT_EQ(stored->sqlite[0].cells, 3U);
  EXPECT_EQ(stored->sqlite[1].cells, 2U) << "rows, and those that differ";
  EXPECT_NE(render(report(*stored)).find("Proof by SQLite"), std::string::npos);
  Refactoring disagreed = *stored;
  disagreed.sqlite[0].different = 1;
  EXPECT_FALSE(disagreed.proved());
}

TEST(Plan, RelinkIsRefusedWhereDifferentPartsGiveTheSameKey) {
  for (const char* const separator : {"", "-"}) {
    SCOPED_TRACE(separator);
    const std::string glued = *separator == 0 ? "1,N1,1,10\n" : "1,N-1,1,10\n";
    const test::SmallModel model = places(separator, glued, *separator == 0 ? "N,11,quay\n" : "N,1-1,quay\n");
    const auto r = refactor(model.open(), "relink sessions.place");
    ASSERT_TRUE(r) << test::messages(r.error());
    EXPECT_FALSE(r->proved());
    EXPECT_EQ(r->rows[0].differing, 1U);
    EXPECT_EQ(test::codes(write(model.open(), *r).error()), "JR-804");
  }
}

// Each way in which moving an expression could change a number.
struct Changing {
  const char* way;
  std::string columns;
  std::string rest;
  std::string plan;
};

const std::vector<Changing>& changing() {
  static const std::vector<Changing> all{
      {"rounding a value that shows", "", "measure m = sum(x for t)\n", "round t.x decimal(1)"},
      {"a type with fewer digits", "", "measure m = sum(x for t)\n", "retype t.x integer"},
      {"rounding before instead of behind", "", "measure m = round(sum(x for t), 1)\n", "round t.x decimal(1)"},
      {"an empty text is no null", "", "measure m = count(label for t)\n", "retype t.label integer"},
      {"a text is more than its number", "", "measure m = max(code for t)\n", "retype t.code integer"},
      {"an order of texts is not that of numbers", "", "measure m = max(plain for t)\n", "retype t.plain integer"},
      {"integer division", "", "measure m = sum(n div 2 for t)\n", "retype t.n decimal(1)"},
      {"a remainder", "", "measure m = sum(n mod 4 for t)\n", "retype t.n decimal(1)"},
      {"a filter of a measure on the column", "  c = n * 2\n", "measure m = (k where t.c > 3)\n", "inline t.c"},
      {"a filter of a query on the column", "  c = n * 2\n", "query f { show k where t.c > 3 }\n", "inline t.c"},
      {"a filter that is dropped", "  c = n * 2\n", "measure m = (k across t.c)\n", "inline t.c"},
      {"an aggregate over all rows", "  c = sum(s.x for s in t)\n", "measure m = max(c for t)\n", "inline t.c"},
      {"an aggregate over another table", "  c = count(d)\n", "measure m = max(c for t)\n", "inline t.c"},
      {"an aggregate over the rows that are looked up", "", "measure m = count(d)\n", "trim d"},
      {"the rows of a dimension, one by one", "",
       "measure m = avg(price of r for r in d)\nmeasure price = max(t.d.price for t)\n", "trim d"},
      {"a column that is read", "", "measure m = max(label for t)\n", "drop t.label"},
      {"a measure that is shown", "", "query f { show k }\n", "drop k"},
      {"a key that links", "", "", "drop t.d_id"},
  };
  return all;
}

// Each way in which a change could change a number: refused, or not proved and so not written.
TEST(Plan, WhatWouldChangeANumberIsRefused) {
  for (const Changing& c : changing()) {
    SCOPED_TRACE(c.way);
    const test::SmallModel model = {
        "table t from csv \"t.csv\" { key id integer  x decimal(2)  n integer  label text  code text  plain text  at "
        "datetime  d_id integer\n" +
            c.columns +
            "}\ntable d from csv \"d.csv\" { key d_id integer  price decimal(2) }\nlink t.d_id -> d.d_id\n"
            "measure k = count(t)\n" +
            c.rest,
        {{"t.csv",
          "id,x,n,label,code,plain,at,d_id\n1,0.55,-3,\"\",007,9,2024-01-01 10:00:00,1\n2,0.45,5,7,8,10,2024-01-01 "
          "11:00:00,2\n3,,7,,,,,\n4,1.24,,9,10,11,2024-01-02 10:00:00,1\n"},
         {"d.csv", "d_id,price\n1,0.25\n2,1\n3,7\n"}}};
    const Dataset dataset = model.open();
    const auto r = refactor(dataset, c.plan);
    if (!r) continue;
    EXPECT_FALSE(r->proved()) << r->diff;
    EXPECT_EQ(test::codes(write(dataset, *r).error()), "JR-804");
  }
}

// What was computed on another day is no longer what the expression gives.
TEST(Plan, WhatReadsTodayIsProvedOnTheDayOfTheStore) {
  const test::SmallModel model = {
      "table t from csv \"t.csv\" { key id integer  day date\n  age = days_between(day, today())\n}\n"
      "measure m = max(age for t)\nquery q { show m }\n",
      {{"t.csv", "id,day\n1,2024-01-01\n2,\n3,2024-02-01\n"}}};
  Options options;
  options.today = 20'000;
  const auto loaded = Dataset::open(model.path(), options);
  ASSERT_TRUE(loaded) << test::messages(loaded.error());
  const auto same_day = refactor(*loaded, "inline t.age");
  ASSERT_TRUE(same_day) << test::messages(same_day.error());
  EXPECT_TRUE(same_day->proved());
  options.today = 20'001;
  const auto next_day = Dataset::open(model.folder.path("model.jrs"), options);
  ASSERT_FALSE(next_day);
  EXPECT_EQ(next_day.error()[0].code, "JR-606") << "columns of one day beside measures of another";
}

TEST(Plan, TheRowsOfAnInlinedColumnAreProvedByTheNaiveEvaluatorToo) {
  const test::SmallModel model = {
      "table t from csv \"t.csv\" { key id integer  x decimal(3)  n integer  d_id integer\n"
      "  rounded = round(x, 1)\n  whole = n div 2\n  missing = d.price\n  mixed = coalesce(rounded * whole, "
      "missing)\n}\n"
      "table d from csv \"d.csv\" { key d_id integer  price decimal(2) }\nlink t.d_id -> d.d_id\n"
      "measure m = sum(mixed for t)\nmeasure k = max(rounded for t)\nquery q { show m, k }\n",
      {{"t.csv", "id,x,n,d_id\n1,0.05,-3,1\n2,,5,2\n3,-0.05,7,\n4,1.249,,1\n"}, {"d.csv", "d_id,price\n1,0.25\n"}}};
  RefactorSettings naive;
  naive.row_plan = Plan::naive;
  for (const RefactorSettings& settings : {RefactorSettings{}, naive}) {
    const auto r = refactor(model.open(), "inline t.mixed", settings);
    ASSERT_TRUE(r) << test::messages(r.error());
    EXPECT_TRUE(r->proved());
    EXPECT_EQ(r->rows.size(), 4U);
    EXPECT_EQ(r->rows[0].query,
              "show n_rows = count(t), differing = count(t where mixed is distinct from (coalesce(round(x, 1) * (n div "
              "2), d.price)))");
  }
}

}  // namespace
}  // namespace juniper::plan_test
