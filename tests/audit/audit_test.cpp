#include <fmt/format.h>
#include <gtest/gtest.h>

#include <numeric>

#include "juniper/demo.h"
#include "juniper/links.h"
#include "juniper/report.h"
#include "juniper/weigh.h"
#include "support/support.h"

namespace juniper::audit_test {
namespace {

void expect_adds_up(const Weighing& w) {
  std::uint64_t of_tables = w.overhead_bytes;
  for (const TableWeight& t : w.tables) of_tables += t.total_bytes();
  std::uint64_t of_parts = w.overhead_bytes;
  for (const ColumnWeight& c : w.columns) of_parts += c.total_bytes();
  for (const LinkWeight& l : w.links) of_parts += l.bytes;
  EXPECT_EQ(of_tables, w.file_bytes);
  EXPECT_EQ(of_parts, w.file_bytes);
}

TEST(Weigh, AddsUpToTheFileToTheByte) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {3000, 5}));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  const Weighing w = weigh(*dataset).value();
  EXPECT_EQ(w.file_bytes, std::filesystem::file_size(folder.path("d/charging.jrs")));
  EXPECT_EQ(w.model, "Tideline charging network");
  expect_adds_up(w);
  // The same from the mapped file as from the store that was just made.
  const auto again = Dataset::open(folder.path("d/charging.jrs"));
  const Weighing mapped = weigh(*again).value();
  EXPECT_EQ(mapped.file_bytes, w.file_bytes);
  EXPECT_EQ(mapped.overhead_bytes, w.overhead_bytes);
  expect_adds_up(mapped);
  EXPECT_TRUE(std::is_sorted(w.columns.begin(), w.columns.end(),
                             [](const auto& a, const auto& b) { return a.total_bytes() > b.total_bytes(); }));
  std::uint64_t source = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path("d/data"))) source += entry.file_size();
  EXPECT_EQ(w.source_bytes, source);
}

TEST(Weigh, TellsWhatIsInAColumnAndWhoUsesIt) {
  const test::SmallModel model(
      R"(table t from csv "t.csv" { key id integer  x decimal(1)  s text  unused integer  y = x * 2 }
measure m = sum(y for t)
query q { by t.s show m })",
      {{"t.csv", "id,x,s,unused\n1,2.5,b,\n2,,a,\n3,-1.0,b,\n4,2.5,,\n"}});
  const Weighing w = weigh(model.open()).value();
  const auto column = [&](const std::string& name) {
    return *std::find_if(w.columns.begin(), w.columns.end(), [&](const ColumnWeight& c) { return c.column == name; });
  };
  EXPECT_EQ(column("x").distinct, 2U);
  EXPECT_EQ(column("x").nulls, 1U);
  EXPECT_EQ(to_text(column("x").min, column("x").type), "-1.0");
  EXPECT_EQ(to_text(column("x").max, column("x").type), "2.5");
  EXPECT_EQ(column("x").used_by, (std::vector<ColumnUse>{{UserKind::calculated_column, "t.y"}}));
  EXPECT_EQ(column("y").used_by, (std::vector<ColumnUse>{{UserKind::measure, "m"}}));
  EXPECT_TRUE(column("y").calculated);
  EXPECT_EQ(column("s").used_by, (std::vector<ColumnUse>{{UserKind::query, "q"}}));
  EXPECT_GT(column("s").dictionary_bytes, 0U);
  EXPECT_TRUE(column("unused").used_by.empty());
  EXPECT_TRUE(column("unused").min.is_null());
  EXPECT_EQ(column("unused").nulls, 4U);
  EXPECT_GT(column("x").bits_per_row(), 0);
}

TEST(Links, CountsOrphansUnusedRowsAndNullKeys) {
  const test::SmallModel model(R"(table f from csv "f.csv" { id integer  k text  day date }
table d from csv "d.csv" { key k text }
table e from csv "e.csv" { key day date }
link f.k -> d.k
link f.day -> e.day
measure n = count(f))",
                               {{"f.csv",
                                 "id,k,day\n1,a,2024-01-01\n2,a,2024-01-01\n3,x,2024-01-01\n4,y,2024-01-02\n5,y,2024-"
                                 "01-02\n6,,2024-01-01\n7,\"\",2024-01-01\n"},
                                {"d.csv", "k\na\nb\nc\n"},
                                {"e.csv", "day\n2024-01-01\n2024-01-02\n"}});
  const auto uses = links(model.open())->links;
  ASSERT_EQ(uses.size(), 2U);
  EXPECT_EQ(uses[0].link, "f.k -> d.k");
  EXPECT_EQ(uses[0].many_rows, 7U);
  EXPECT_EQ(uses[0].many_keys, 4U);
  EXPECT_EQ(uses[0].null_rows, 1U);
  EXPECT_EQ(uses[0].one_rows, 3U);
  EXPECT_EQ(uses[0].used_rows, 1U);
  EXPECT_EQ(uses[0].unused_rows(), 2U);
  EXPECT_EQ(uses[0].orphan_keys, 3U);
  EXPECT_EQ(uses[0].orphan_rows, 4U);
  ASSERT_EQ(uses[0].samples.size(), 3U);
  EXPECT_EQ(uses[0].samples[0].key, "y");
  EXPECT_EQ(uses[0].samples[0].rows, 2U);
  EXPECT_EQ(uses[1].orphan_keys, 0U);
  EXPECT_EQ(links(model.open(), 1)->links[0].samples.size(), 1U);
}

TEST(Weigh, QueriesOfALogCountAsUses) {
  const test::SmallModel model(R"(table s from csv "s.csv" { key id integer  bay integer  kwh integer  note text }
table bays from csv "bays.csv" { key bay integer  site text }
link s.bay -> bays.bay
measure energy = sum(kwh for s)
query sites { by bays.site show energy })",
                               {{"s.csv", "id,bay,kwh,note\n1,7,2,x\n"}, {"bays.csv", "bay,site\n7,Mill\n"}});
  const auto log = read_query_log(
      model.folder.write("log.jsonl",
                         "{\"time\": \"2025-03-01 08:00:00\", \"query\": \"sites\"}\n\n{\"query\": \"show count(s) as "
                         "n where s.kwh > 1\"}\n"
                         "{\"query\": \"sites\", \"user\": \"desk 4\"}\r\n{\"query\": \"show nothing\"}\n"));
  ASSERT_TRUE(log) << test::messages(log.error());
  EXPECT_EQ(log->lines(), 4U);
  const Weighing weighing = weigh(model.open(), *log).value();
  std::map<std::string, std::uint64_t> queries;
  for (const ColumnWeight& c : weighing.columns) queries[c.table + "." + c.column] = c.logged_queries;
  EXPECT_EQ(queries, (std::map<std::string, std::uint64_t>{
                         {"s.id", 0}, {"s.bay", 0}, {"s.kwh", 3}, {"s.note", 0}, {"bays.bay", 0}, {"bays.site", 2}}));
  EXPECT_EQ(weighing.logged_queries, 4U);
  EXPECT_EQ(weighing.not_understood, 1U);
  ASSERT_EQ(weighing.log_problems.size(), 1U);
  EXPECT_EQ(weighing.log_problems[0].place.line, 5U);
  const std::string text = render(report(weighing, {WeighOrder::uses, 0}));
  EXPECT_NE(text.find("The log holds 4 queries, of which the model does not understand 1."), std::string::npos) << text;
  EXPECT_EQ(
      test::codes(read_query_log(model.folder.write("bad.jsonl", "{\"query\": \"sites\"}\n{\"q\": 1}\n")).error()),
      "JR-007");
  EXPECT_EQ(test::codes(read_query_log(model.folder.path("none.jsonl")).error()), "JR-501");
}

TEST(Weigh, TwoWeighingsAreComparedLineByLine) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { a integer  b text  twice = a * 2 }\nmeasure m = sum(a for t)",
      {{"t.csv", "a,b\n1,x\n2,yy\n3,zzz\n"}});
  const Weighing first = weigh(model.open()).value();
  const std::string json = model.folder.write("before.json", render(report(first), {Format::json, Color::off}));
  const std::string csv = model.folder.write("before.csv", render(report(first), {Format::csv, Color::off}));
  std::filesystem::copy_file(model.folder.path("model.jrs"), model.folder.path("before.jrs"));
  const std::string store = model.folder.path("before.jrs");
  for (const std::string& before : {json, csv, store}) {
    const auto same = weigh_against(first, before);
    ASSERT_TRUE(same) << test::messages(same.error());
    EXPECT_EQ(same->parts.size(), 0U);
    EXPECT_EQ(same->same_parts, 4U);
    EXPECT_EQ(same->before_bytes, first.file_bytes);
  }
  model.folder.write("model.ridge",
                     "table t from csv \"t.csv\" { a integer  b text  half = a / 2 }\nmeasure m = sum(a for t)");
  model.folder.write("t.csv", "a,b\n1,x\n2,yy\n3,zzz\n900000,zzz\n");
  const Weighing second = weigh(model.open()).value();
  for (const std::string& before : {json, csv, store}) {
    const auto changes = weigh_against(second, before);
    ASSERT_TRUE(changes) << test::messages(changes.error());
    EXPECT_EQ(changes->before_bytes, first.file_bytes);
    EXPECT_EQ(changes->after_bytes, second.file_bytes);
    std::int64_t sum = 0;
    std::string what;
    for (const PartChange& part : changes->parts) {
      sum += part.bytes();
      if (!part.before) what += "+" + part.name;
      if (!part.after) what += "-" + part.name;
    }
    EXPECT_EQ(sum, static_cast<std::int64_t>(second.file_bytes) - static_cast<std::int64_t>(first.file_bytes));
    EXPECT_NE(what.find("+half"), std::string::npos);
    EXPECT_NE(what.find("-twice"), std::string::npos);
  }
  for (const std::string bad : {"", "{", "{}", "a,b\n1,2\n", "table,name\n\"x"})
    EXPECT_EQ(test::codes(weigh_against(first, model.folder.write("bad", bad)).error()), "JR-006") << bad;
  EXPECT_EQ(test::codes(weigh_against(first, "no/such.json").error()), "JR-006");
  EXPECT_EQ(test::codes(weigh_against(first, "no/such.jrs").error()), "JR-602");
}

TEST(Links, TellWhatOrphansAddUpToAndWhatTrimmingSaves) {
  std::string cards = "card,holder\n";
  for (int i = 0; i < 5000; ++i) cards += std::to_string(i * 17) + "," + std::to_string(i * 7919 % 5003) + "\n";
  const test::SmallModel model(R"(table s from csv "s.csv" { key id integer  card integer  day date  kwh decimal(1) }
table v from csv "v.csv" { key id integer  card integer }
table cards from csv "cards.csv" { key card integer  holder text }
table days from csv "days.csv" { key day date  year integer }
link s.card -> cards.card
link v.card -> cards.card
link s.day -> days.day as charged
calendar days.day periods (year)
measure energy = sum(kwh for s)
measure n = count(s)
measure visits = count(v)
measure per_visit = energy / visits
measure hidden_n = n + 0)",
                               {{"s.csv",
                                 "id,card,day,kwh\n1,17,2024-01-01,1.5\n2,5,2024-01-04,2.5\n3,,2024-01-05,4\n4,6,"
                                 "2024-01-01,8\n"},
                                {"v.csv", "id,card\n1,34\n"},
                                {"cards.csv", cards},
                                {"days.csv", "day,year\n2024-01-01,2024\n2024-01-03,2024\n2024-01-07,2024\n"}});
  const auto found = links(model.open());
  ASSERT_TRUE(found) << test::messages(found.error());
  const auto measures = [](const LinkUse& use) {
    std::string text;
    for (const OrphanMeasure& m : use.orphan_measures) text += m.measure + "=" + to_text(m.value, m.type) + " ";
    return text;
  };
  // Measures that also count other rows are left out: the condition would not narrow those.
  EXPECT_EQ(measures(found->links[0]), "energy=10.5 n=2 hidden_n=2 ");
  EXPECT_EQ(measures(found->links[1]), "");
  EXPECT_EQ(measures(found->links[2]), "energy=6.5 n=2 hidden_n=2 ");
  // Rows that any link reaches stay: two cards of 5,000.
  ASSERT_EQ(found->trims.size(), 2U);
  EXPECT_EQ(found->trims[0].table, "cards");
  EXPECT_EQ(found->trims[0].used_rows, 2U);
  EXPECT_GT(found->trims[0].saved_bytes, found->trims[0].bytes * 9 / 10);
  EXPECT_LT(found->trims[0].saved_bytes, found->trims[0].bytes);
  ASSERT_EQ(found->gaps.size(), 2U);
  EXPECT_EQ(found->calendar, "days.day");
  EXPECT_EQ(found->gaps[0].first, found->gaps[0].last);
  EXPECT_EQ(found->gaps[1].last - found->gaps[1].first, 2);
}

// A gap of the calendar is one sample, not one for each of its days.
TEST(Links, OrphanDaysThatFollowEachOtherAreOne) {
  const test::SmallModel model(
      "table f from csv \"f.csv\" { d date }\ntable days from csv \"days.csv\" { key d date }\nlink f.d -> days.d\n",
      {{"f.csv", "d\n2025-01-02\n2025-01-03\n2025-01-03\n2025-01-04\n2025-02-28\n2025-03-01\n2025-01-06\n2025-01-01\n"},
       {"days.csv", "d\n2025-01-01\n2025-01-05\n"}});
  const auto found = links(model.open());
  ASSERT_TRUE(found);
  std::string told;
  for (const OrphanKey& key : found->links[0].samples)
    told += fmt::format("{} {} {} {}\n", key.key, key.last, key.keys, key.rows);
  EXPECT_EQ(told, "2025-01-02 2025-01-04 3 4\n2025-02-28 2025-03-01 2 2\n2025-01-06  1 1\n");
}

// Rows are either linked, orphans or without a key; whatever the data.
TEST(Links, EveryRowOfTheDemoIsAccountedFor) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {5000, 9}));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  const auto uses = links(*dataset, 1000);
  ASSERT_TRUE(uses);
  for (const LinkUse& use : uses->links) {
    const std::uint64_t sampled = std::accumulate(use.samples.begin(), use.samples.end(), std::uint64_t{0},
                                                  [](std::uint64_t sum, const OrphanKey& k) { return sum + k.rows; });
    EXPECT_EQ(sampled, use.orphan_rows) << use.link;
    const std::uint64_t keys = std::accumulate(use.samples.begin(), use.samples.end(), std::uint64_t{0},
                                               [](std::uint64_t sum, const OrphanKey& k) { return sum + k.keys; });
    EXPECT_EQ(keys, use.orphan_keys) << use.link;
    EXPECT_LE(use.used_rows, use.one_rows);
    EXPECT_LE(use.used_rows + use.orphan_keys, use.many_keys) << use.link;
  }
}

}  // namespace
}  // namespace juniper::audit_test
