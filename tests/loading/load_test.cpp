#include <fmt/format.h>
#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <thread>

#include "juniper/dataset.h"
#include "store/of_dataset.h"
#include "store/store.h"
#include "support/deadline.h"
#include "support/support.h"

namespace juniper::load_test {
namespace {

constexpr const char* text = R"(model "Small"
table sessions from csv "data/s-*.csv" { key id integer  bay_id integer  energy decimal(2)
  double = energy * 2
  far = bays.site
  four = double * 2
  all = sum(s.energy for s in sessions)
}
table bays from csv "data/bays.csv" { key bay_id integer  site text }
link sessions.bay_id -> bays.bay_id
measure total = sum(energy for sessions)
query q { show total, max(four for sessions) as four, max(all for sessions) as everything, count(distinct far for sessions) as sites }
)";

test::SmallModel small() {
  return {text,
          {{"data/s-1.csv", "id,bay_id,energy\n1,7,1.50\n2,8,2.25\n"},
           {"data/s-2.csv", "id,bay_id,energy\n3,,3\n"},
           {"data/bays.csv", "bay_id,site\n7,Mill\n9,Quay\n"}}};
}

TEST(Load, ReportsEveryTableColumnAndLink) {
  const test::SmallModel model = small();
  std::vector<std::string> steps;
  Options options;
  options.progress = [&](const Progress& p) { steps.push_back(p.step); };
  const auto report = load(model.path(), options);
  ASSERT_TRUE(report) << test::messages(report.error());
  EXPECT_TRUE(report->loaded);
  EXPECT_EQ(report->store, model.folder.path("model.jrs"));
  EXPECT_EQ(report->file_bytes, std::filesystem::file_size(report->store));
  ASSERT_EQ(report->tables.size(), 2U);
  EXPECT_EQ(report->tables[0].rows, 3U);
  EXPECT_EQ(report->columns.size(), 9U);
  EXPECT_TRUE(report->columns[3].calculated);
  EXPECT_EQ(report->links.size(), 1U);
  std::int64_t of_tables = 0;
  for (const TableLoad& t : report->tables) of_tables += t.total_nanoseconds;
  EXPECT_LE(of_tables, report->total_nanoseconds);
  EXPECT_NE(std::find(steps.begin(), steps.end(), "reading sessions"), steps.end());
  EXPECT_NE(std::find(steps.begin(), steps.end(), "computing sessions.four"), steps.end());
  EXPECT_EQ(test::answer(model.open(), "q"), "6.75|12.00|6.75|1");
}

TEST(Load, AFreshStoreIsLeftAlone) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path())->loaded);
  EXPECT_FALSE(load(model.path())->loaded);
  EXPECT_TRUE(load(model.path(), {}, {Reload::always, ""})->loaded);
  // A file that was only touched has the same bytes.
  std::filesystem::last_write_time(model.folder.path("data/bays.csv"),
                                   std::filesystem::file_time_type::clock::now() + std::chrono::hours(1));
  EXPECT_FALSE(load(model.path())->loaded);
}

TEST(Load, MeasuresAndLayoutChangeNoData) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path())->loaded);
  std::string changed = text;
  changed.replace(changed.find("sum(energy for sessions)\nquery"), 24, "sum(energy * 2 for sessions)");
  model.folder.write("model.ridge", "# a comment\n" + changed);
  EXPECT_EQ(test::answer(model.open(), "show total"), "13.50");
  EXPECT_FALSE(load(model.path())->loaded);
  // The store has the text of today: it can be asked on its own.
  const auto alone = Dataset::open(model.folder.path("model.jrs"));
  ASSERT_TRUE(alone) << test::messages(alone.error());
  EXPECT_EQ(test::answer(*alone, "show total"), "13.50");
}

TEST(Load, WhatDecidesTheBytesMakesItStale) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path())->loaded);
  std::string changed = text;
  changed.replace(changed.find("double = energy * 2"), 19, "double = energy * 3");
  model.folder.write("model.ridge", changed);
  EXPECT_TRUE(load(model.path())->loaded);
  model.folder.write("data/s-1.csv", "id,bay_id,energy\n1,7,9.50\n2,8,2.25\n");
  EXPECT_EQ(test::answer(model.open(), "show total"), "14.75");
  model.folder.write("data/s-3.csv", "id,bay_id,energy\n4,7,1\n");
  EXPECT_EQ(test::answer(model.open(), "show total"), "15.75");
  std::filesystem::remove(model.folder.path("data/s-3.csv"));
  EXPECT_EQ(test::answer(model.open(), "show total"), "14.75");
}

// The calculated columns that a load takes from the earlier store, and what all of them give then.
std::string carried_by_load(const test::SmallModel& model) {
  const auto report = load(model.path());
  if (!report) return test::messages(report.error());
  std::string carried;
  for (const ColumnLoad& column : report->columns) {
    if (column.carried) carried += (carried.empty() ? "" : " ") + column.column;
  }
  return carried;
}

TEST(Load, ColumnsThatMeanTheSameOverTheSameRowsAreNotComputedAgain) {
  std::string now = R"(param factor = 2
table sessions from csv "data/s-*.csv" { key id integer  bay_id integer  energy decimal(2)
  double = energy * factor
  far = bays.site
  four = double * 2
  all = sum(s.energy for s in sessions)
  most = top_energy of this
  old = days_between(date "2020-01-01", today())
}
table bays from csv "data/bays.csv" { key bay_id integer  site text  used = count(s in sessions where s.bay_id = this.bay_id) }
link sessions.bay_id -> bays.bay_id
measure top_energy = max(energy for sessions)
query q { by sessions.id show a = max(double for sessions), b = max(far for sessions), c = max(four for sessions), d = max(all for sessions), e = max(most for sessions), f = max(bays.used for sessions) }
)";
  const test::SmallModel model(now, {{"data/s-1.csv", "id,bay_id,energy\n1,7,1.50\n2,8,2.25\n"},
                                     {"data/s-2.csv", "id,bay_id,energy\n3,,3\n"},
                                     {"data/bays.csv", "bay_id,site\n7,Mill\n9,Quay\n"}});
  const auto change = [&](const std::string& what, const std::string& with) {
    const std::size_t at = now.find(what);
    ASSERT_NE(at, std::string::npos) << what;
    now.replace(at, what.size(), with);
    model.folder.write("model.ridge", now);
  };
  // As a load from nothing answers.
  const auto answer = [&] {
    const std::string stored = test::answer(model.open(), "q");
    const test::SmallModel anew(now, {{"data/s-1.csv", test::read_file(model.folder.path("data/s-1.csv"))},
                                      {"data/s-2.csv", test::read_file(model.folder.path("data/s-2.csv"))},
                                      {"data/bays.csv", test::read_file(model.folder.path("data/bays.csv"))}});
    return stored == test::answer(anew.open(), "q") ? "" : stored;
  };
  EXPECT_EQ(carried_by_load(model), "");
  const std::string rest = "far all most old used";
  change("four = double * 2", "four = double * 4");
  EXPECT_EQ(carried_by_load(model), "double far all most old used");
  EXPECT_EQ(answer(), "");
  change("double = energy * factor", "double = energy * factor + 1");
  EXPECT_EQ(carried_by_load(model), rest);
  change("factor = 2", "factor = 3");
  EXPECT_EQ(carried_by_load(model), rest);
  change("top_energy = max(energy", "top_energy = min(energy");
  EXPECT_EQ(carried_by_load(model), "double far four all old used");
  EXPECT_EQ(answer(), "");
  // Another column beside them, another name, another link: what is left of the same meaning stays.
  change("  all = sum", "  more = energy + 1\n  all = sum");
  EXPECT_EQ(carried_by_load(model), "double far four all most old used");
  change("  far = ", "  place = ");
  change("b = max(far", "b = max(place");
  EXPECT_EQ(carried_by_load(model), "double four more all most old used");
  EXPECT_EQ(answer(), "");
  // Rows of one table are others: only what rests on the other alone is as it was.
  model.folder.write("data/bays.csv", "bay_id,site\n7,Pier\n8,Quay\n");
  EXPECT_EQ(carried_by_load(model), "double four more all most old");
  model.folder.write("data/s-2.csv", "id,bay_id,energy\n3,8,4\n");
  EXPECT_EQ(carried_by_load(model), "");
  EXPECT_EQ(answer(), "");
  // The day of today() counts where it is read.
  Options tomorrow;
  tomorrow.today = 20'000;
  const auto report = load(model.path(), tomorrow);
  ASSERT_TRUE(report) << test::messages(report.error());
  for (const ColumnLoad& column : report->columns)
    EXPECT_EQ(column.carried, column.calculated && column.column != "old");
}

// The files read of the first table, and all its rows: "2 of 3: …".
std::string after_load(const test::SmallModel& model) {
  const auto report = load(model.path());
  if (!report) return test::messages(report.error());
  return fmt::format("{} of {}: {}", report->tables[0].files_read, report->tables[0].files,
                     test::answer(model.open(), "by t.n, t.x, t.r, t.d show count(t) as c, max(n for t) as l"));
}

TEST(Load, OnlyFilesThatAreNewOrChangedAreRead) {
  const test::SmallModel model(R"(table t from csv "data/*.csv" { n integer  x text  r real  d datetime  twice = n * 2 }
measure m = sum(twice for t))",
                               {{"data/b.csv", "n,x,r,d\n3,three,0.5,2024-01-01 10:00:00\n4,,,\n"},
                                {"data/d.csv", "n,x,r,d\n7,\"\",-2,2024-01-02 00:00:00\n"}});
  const std::string b = "3|three|0.5|2024-01-01 10:00:00|1|3\n4|null|null|null|1|4\n";
  const std::string d = "7||-2|2024-01-02 00:00:00|1|7";
  EXPECT_EQ(after_load(model), "2 of 2: " + b + d);
  EXPECT_EQ(after_load(model), "0 of 2: " + b + d);
  // Behind, before and between those that are there.
  model.folder.write("data/e.csv", "n,x,r,d\n9,nine,,\n");
  EXPECT_EQ(after_load(model), "1 of 3: " + b + d + "\n9|nine|null|null|1|9");
  model.folder.write("data/a.csv", "n,x,r,d\n1,one,,\n");
  model.folder.write("data/c.csv", "d,r,x,n\n,,six,6\n");
  const std::string a = "1|one|null|null|1|1\n";
  EXPECT_EQ(after_load(model), "2 of 5: " + a + b + "6|six|null|null|1|6\n" + d + "\n9|nine|null|null|1|9");
  // Rows stand in the order of the files: read back as they would be by one load.
  const auto rows = [&] {
    std::string all;
    const Dataset dataset = model.open();
    const store::Column& n = store::store_of(dataset).tables[0].columns[0].data;
    for (std::uint64_t row = 0; row < n.rows; ++row) all += to_text(n.at(row), n.type);
    return all;
  };
  EXPECT_EQ(rows(), "134679");
  // One is changed, one is gone.
  model.folder.write("data/c.csv", "n,x,r,d\n5,five,,\n");
  std::filesystem::remove(model.folder.path("data/e.csv"));
  EXPECT_EQ(after_load(model), "1 of 4: " + a + b + "5|five|null|null|1|5\n" + d);
  EXPECT_EQ(rows(), "13457");
  EXPECT_EQ(test::answer(model.open(), "show m"), "40");
  // A column calculated in another way reads no file; a column of another type reads all.
  std::string changed = test::read_file(model.path());
  changed.replace(changed.find("n * 2"), 5, "n * 3");
  model.folder.write("model.ridge", changed);
  EXPECT_EQ(after_load(model).substr(0, 6), "0 of 4");
  EXPECT_EQ(test::answer(model.open(), "show m"), "60");
  changed.replace(changed.find("r real"), 6, "r decimal(1)");
  model.folder.write("model.ridge", changed);
  EXPECT_EQ(after_load(model).substr(0, 6), "4 of 4");
  // What is damaged is read again.
  const auto opened = store::open_store(model.folder.path("model.jrs"));
  std::string bytes = test::read_file(model.folder.path("model.jrs"));
  const std::size_t at = bytes.find("five");
  if (at != std::string::npos) bytes[at] = 'F';
  model.folder.write("model.jrs", bytes);
  EXPECT_EQ(test::codes(verify(model.path()).error()), "JR-605");
  model.folder.write("data/f.csv", "n,x,r,d\n11,,,\n");
  EXPECT_EQ(after_load(model).substr(0, 6), "5 of 5");
  EXPECT_TRUE(verify(model.path()));
}

TEST(Load, RowsMayBeRejected) {
  const test::SmallModel model(R"(table t from csv "t.csv" { n integer  x text }
table u from csv "u.csv" { n integer }
measure m = sum(n for t))",
                               {{"t.csv", "n,x\n1,a\n2b,b\n3\n4,d\n"}, {"u.csv", "n\n1\nx\n"}});
  EXPECT_EQ(test::codes(load(model.path()).error()), "JR-507 JR-506 JR-507");
  const std::string rejects = model.folder.path("rejects.csv");
  const auto report = load(model.path(), {}, {Reload::when_stale, rejects});
  ASSERT_TRUE(report) << test::messages(report.error());
  EXPECT_EQ(report->tables[0].rejected, 2U);
  EXPECT_EQ(report->tables[1].rejected, 1U);
  const std::string t = model.folder.path("t.csv");
  EXPECT_EQ(test::read_file(rejects),
            "file,line,reasons,record\n\"" + t +
                "\",3,\"field 1 ('n'): found \"\"2b\"\", expected a whole number of 64 bits for t.n\",\"2b,b\"\n\"" +
                t + "\",4,\"this record has 1 fields, and the header has 2\",\"3\"\n\"" + model.folder.path("u.csv") +
                "\",3,\"field 1 ('n'): found \"\"x\"\", expected a whole number of 64 bits for u.n\",\"x\"\n");
  EXPECT_EQ(test::answer(model.open(), "show m"), "5");
  // It stays told.
  EXPECT_EQ(load(model.path())->tables[0].rejected, 2U);
  EXPECT_EQ(load(model.path(), {}, {Reload::always, "no/such/folder/r.csv"}).error()[0].code, "JR-511");
}

TEST(Load, ADayDecidesWhatReadsToday) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { d date  age = days_between(d, today()) }\nmeasure m = max(age for t)",
      {{"t.csv", "d\n2025-01-01\n"}});
  Options options;
  options.today = parse_value("2025-01-11", {TypeKind::date, 0})->exact();
  EXPECT_EQ(test::answer(model.open(options), "show m"), "10");
  EXPECT_FALSE(load(model.path(), options)->loaded);
  *options.today += 1;
  EXPECT_TRUE(load(model.path(), options)->loaded);
  EXPECT_EQ(test::answer(model.open(options), "show m"), "11");
}

TEST(Load, AFailedLoadLeavesTheEarlierStoreWhole) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path()));
  const std::string before = test::read_file(model.folder.path("model.jrs"));
  model.folder.write("data/s-1.csv", "id,bay_id,energy\n1,7,x\n");
  const auto failed = load(model.path());
  ASSERT_FALSE(failed);
  EXPECT_EQ(failed.error()[0].code, "JR-507");
  EXPECT_EQ(test::read_file(model.folder.path("model.jrs")), before);
}

// Files are told by name, size and time; only where these differ are their bytes read again. How the path to their
// folder is written tells nothing.
TEST(Load, AFolderMayBeNamedInAnotherWay) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path()));
  const std::string file = model.folder.path("data/s-1.csv");
  const auto time = std::filesystem::last_write_time(file);
  std::string bytes = test::read_file(file);
  bytes.back() = ' ';
  model.folder.write("data/s-1.csv", bytes);
  std::filesystem::last_write_time(file, time);
  EXPECT_FALSE(load(model.folder.path("data/../model.ridge"))->loaded);
}

TEST(Load, KeysMustBeThereAndDiffer) {
  const test::SmallModel model("table t from csv \"t.csv\" { key id integer  x text }\nmeasure n = count(t)",
                               {{"t.csv", "id,x\n1,\"a\nb\"\n2,c\n1,d\n,e\n"}});
  const Diagnostics errors = model.errors();
  ASSERT_EQ(test::codes(errors), "JR-508 JR-508");
  EXPECT_EQ(errors[0].place, (Place{model.folder.path("t.csv"), 5, 0}));
  EXPECT_NE(errors[0].message.find("t.id is 1 here and in row 1 already"), std::string::npos) << errors[0].message;
  EXPECT_NE(errors[1].message.find("is null here"), std::string::npos);
}

TEST(Load, EveryTableReportsItsErrors) {
  const test::SmallModel model(
      "table a from csv \"a.csv\" { x integer }\ntable b from csv \"b.csv\" { x integer }\ntable c from csv \"c.csv\" "
      "{ x integer }\nmeasure n = count(a)",
      {{"a.csv", "x\nq\n"}, {"b.csv", "y\n1\n"}});
  const Diagnostics errors = model.errors();
  EXPECT_EQ(test::codes(errors), "JR-507 JR-505 JR-504");
  EXPECT_EQ(errors[2].place.line, 3U);  // a file that is missing is told where the text names it
  EXPECT_EQ(errors[2].place.column, 18U);
}

TEST(Load, LinksMatchByValueOverAllTypesOfKeys) {
  const test::SmallModel model(R"(table f from csv "f.csv" { id integer  t text  d date  m decimal(1)  c = t || "x" }
table a from csv "a.csv" { key k text  v integer }
table b from csv "b.csv" { key k date  v integer }
table e from csv "e.csv" { key k decimal(1)  v integer }
table g from csv "g.csv" { key k text  v integer }
link f.t -> a.k  link f.d -> b.k  link f.m -> e.k  link f.c -> g.k
measure s = sum(a.v * 1000 + b.v * 100 + e.v * 10 + g.v for f))",
                               {{"f.csv", "id,t,d,m\n1,x,2024-01-01,0.5\n2,y,2024-01-02,7\n3,zz,2030-01-01,\n"},
                                {"a.csv", "k,v\ny,2\nx,1\n\"\",9\n"},
                                {"b.csv", "k,v\n2024-01-02,4\n2024-01-01,3\n"},
                                {"e.csv", "k,v\n7.0,6\n0.5,5\n100000000000,1\n"},
                                {"g.csv", "k,v\nxx,7\nyx,8\n"}});
  EXPECT_EQ(test::answer(model.open(), "by f.id show s"), "1|1357\n2|2468");
}

// A block is looked at when something is asked of it: what lies elsewhere is answered, what is damaged is told.
TEST(Dataset, ADamagedStoreIsTold) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path()));
  const std::string good = test::read_file(model.folder.path("model.jrs"));
  std::size_t at_opening = 0;
  std::size_t when_asked = 0;
  std::size_t answered = 0;
  for (std::size_t at = 0; at < good.size(); at += 7) {
    std::string bad = good;
    bad[at] = static_cast<char>(bad[at] ^ 16);
    const auto dataset = Dataset::open(model.folder.write("bad.jrs", bad));
    if (!dataset) {
      ++at_opening;
      continue;
    }
    const auto total = ask(*dataset, {"show total"});
    if (total) {
      ++answered;
      ASSERT_EQ(test::rows_of(*total), "6.75") << "byte " << at;
    } else {
      ++when_asked;
      ASSERT_EQ(test::codes(total.error()), "JR-605");
      ASSERT_NE(total.error()[0].message.find("column sessions.energy of bad.jrs"), std::string::npos);
      ASSERT_EQ(test::answer(*dataset, "by bays.bay_id show count(bays) as n"), "7|1\n9|1");
    }
  }
  EXPECT_GT(at_opening, 50U);
  EXPECT_GT(when_asked, 2U);
  EXPECT_GT(answered, 20U);
  EXPECT_TRUE(load(model.path(), {}, {Reload::always, ""})->loaded);
  EXPECT_EQ(test::answer(model.open(), "show total"), "6.75");
}

TEST(Dataset, TwoReadWhileAThirdLoads) {
  constexpr std::size_t rows = 30'000;
  const auto file = [](int value) {
    std::string csv = "id,x\n";
    for (std::size_t i = 0; i < rows; ++i) csv += fmt::format("{},{}\n", i, value);
    return csv;
  };
  const test::SmallModel model("table t from csv \"t.csv\" { key id integer  x integer }\nmeasure m = sum(x for t)",
                               {{"t.csv", file(1)}});
  ASSERT_TRUE(load(model.path()));
  const std::string store = model.folder.path("model.jrs");
  std::atomic<bool> done{false};
  std::atomic<std::size_t> read{0};
  std::vector<std::jthread> readers;
  for (int reader = 0; reader < 2; ++reader) {
    readers.emplace_back([&] {
      while (!done || read < 2) {
        const auto dataset = Dataset::open(store);
        ASSERT_TRUE(dataset) << test::messages(dataset.error());
        const std::string first = test::answer(*dataset, "show m");
        EXPECT_TRUE(first == "30000" || first == "60000") << first;
        EXPECT_EQ(test::answer(*dataset, "show m"), first) << "an open store stays as it is";
        ++read;
      }
    });
  }
  for (int i = 0; i < 20; ++i) {
    model.folder.write("t.csv", file(1 + i % 2));
    ASSERT_TRUE(load(model.path(), {}, {Reload::always, ""}));
  }
  done = true;
}

TEST(Dataset, AStoreOfAnotherVersionIsLoadedAgain) {
  const test::SmallModel model = small();
  ASSERT_TRUE(load(model.path()));
  std::string bytes = test::read_file(model.folder.path("model.jrs"));
  ++bytes[8];
  model.folder.write("model.jrs", bytes);
  EXPECT_EQ(Dataset::open(model.folder.path("model.jrs")).error()[0].code, "JR-604");
  EXPECT_EQ(test::answer(model.open(), "show total"), "6.75");
}

TEST(Dataset, MissingFilesAreTold) {
  EXPECT_EQ(test::codes(Dataset::open("no/such.ridge").error()), "JR-001");
  EXPECT_EQ(test::codes(Dataset::open("/").error()), "JR-001");
  EXPECT_EQ(test::codes(Dataset::open("no/such.jrs").error()), "JR-602");
  EXPECT_EQ(test::codes(load("no/such.jrs").error()), "JR-001");
}

TEST(Dataset, TheStoreMayStandElsewhere) {
  const test::SmallModel model = small();
  Options options;
  options.store = model.folder.path("elsewhere.jrs");
  EXPECT_EQ(test::answer(model.open(options), "show total"), "6.75");
  EXPECT_TRUE(std::filesystem::exists(options.store));
  EXPECT_FALSE(std::filesystem::exists(model.folder.path("model.jrs")));
}

// A load may be called off where it reads, and where it computes a column that looks at all rows for each; the earlier
// store stays.
TEST(LoadCalledOff, LeavesTheEarlierStore) {
  std::string csv = "n\n";
  for (int i = 0; i < 60'000; ++i) csv += std::to_string(i * 7919 % 60'000) + "\n";
  const std::string begin = "table t from csv \"t.csv\" { n integer";
  const std::string end = " }\nmeasure total = sum(n for t)\n";
  const test::SmallModel model(begin + end, {{"t.csv", csv}});
  EXPECT_EQ(test::answer(model.open(), "show total"), "1799970000");
  const auto before = test::read_file(model.folder.path("model.jrs"));
  model.folder.write("model.ridge", begin + "  slow = max(w.n for w in t where w.n * this.n > w.n + 2 * this.n)" + end);
  const auto cancelled = std::make_shared<std::atomic<bool>>(false);
  Options options;
  options.cancelled = cancelled;
  for (const int milliseconds : {0, 1, 20, 150}) {
    const test::Deadline deadline(cancelled, std::chrono::milliseconds(milliseconds));
    const auto begun = std::chrono::steady_clock::now();
    const auto opened = Dataset::open(model.path(), options);
    ASSERT_FALSE(opened);
    EXPECT_EQ(test::codes(opened.error()), "JR-707");
    EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(20));
  }
  EXPECT_EQ(test::read_file(model.folder.path("model.jrs")), before);
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(model.folder.path(".")))
    files += entry.is_regular_file();
  EXPECT_EQ(files, 3U);
}

}  // namespace
}  // namespace juniper::load_test
