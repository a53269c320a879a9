// Whole families of cases against SQLite: patterns, parts of texts and dates, and tables of several blocks and chunks.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <atomic>
#include <chrono>
#include <thread>

#include "juniper/sql.h"
#include "support/deadline.h"
#include "support/sqlite.h"
#include "support/support.h"

namespace juniper::against_sqlite_test {
namespace {

// All texts over an alphabet up to a length.
std::vector<std::string> texts_over(const std::string& alphabet, std::size_t longest) {
  std::vector<std::string> all{""};
  for (std::size_t begin = 0, length = 0; length < longest; ++length) {
    const std::size_t end = all.size();
    for (; begin < end; ++begin) {
      for (const char c : alphabet) all.push_back(all[begin] + c);
    }
  }
  return all;
}

// Runs `show` of each query in ours and the script's rows in SQLite, and expects them to be the same text.
void expect_same_rows(const Dataset& dataset, const std::string& query, const std::string& script) {
  const auto result = ask(dataset, {query, {}});
  ASSERT_TRUE(result) << test::messages(result.error());
  const auto expected = test::run_sqlite(script);
  ASSERT_EQ(result->rows.size(), expected.size()) << query;
  for (std::size_t row = 0; row < expected.size(); ++row) {
    for (std::size_t i = 0; i < expected[row].size(); ++i) {
      const Value& value = result->rows[row].cells[i];
      Type type = result->columns[i].type;
      if (type.kind == TypeKind::boolean) type.kind = TypeKind::integer;  // SQLite's are 0 and 1
      ASSERT_EQ(value.is_null() ? "null" : to_text(value, type), expected[row][i])
          << query << "\nrow " << row << ", " << result->columns[i].name;
    }
  }
}

TEST(AgainstSqlite, EveryShortPattern) {
  std::string csv = "id,s,p\n";
  std::string sql = "pragma case_sensitive_like = 1;\ncreate table t(id integer, s text, p text);\nbegin;\n";
  int id = 0;
  for (const std::string& pattern : texts_over("aB%_", 3)) {
    for (const std::string& text : texts_over("aB", 4)) {
      ++id;
      csv += fmt::format("{},\"{}\",\"{}\"\n", id, text, pattern);
      sql += fmt::format("insert into t values ({}, '{}', '{}');\n", id, text, pattern);
    }
  }
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  s text  p text  matches = s like p }\nmeasure n = count(t)",
      {{"t.csv", csv}});
  const Dataset dataset = model.open();
  expect_same_rows(dataset, "by t.id show max(matches for t) as m",
                   sql + "commit;\nselect id, s like p from t order by id;");
  // A pattern that stands in the text is matched over the dictionary; the same must come out.
  for (const std::string& pattern : texts_over("a%_", 3)) {
    expect_same_rows(dataset, fmt::format("show count(t where s like \"{}\") as n", pattern),
                     sql + fmt::format("commit;\nselect count(*) from t where s like '{}';", pattern));
    if (HasFatalFailure()) return;
    if (pattern.size() > 1 && pattern[0] == pattern[1]) break;  // a spawned shell for each: a few are enough
  }
}

TEST(AgainstSqlite, EveryPartOfShortTexts) {
  std::string csv = "id,s,a,n\n";
  std::string sql = "create table t(id integer, s text, a integer, n integer);\nbegin;\n";
  int id = 0;
  for (const std::string text : {"", "a", "ab", "äöü", "a✓b", "plain text"}) {
    for (int from = 1; from <= 6; ++from) {
      for (int length = 0; length <= 6; ++length) {
        ++id;
        csv += fmt::format("{},\"{}\",{},{}\n", id, text, from, length);
        sql += fmt::format("insert into t values ({}, '{}', {}, {});\n", id, text, from, length);
      }
    }
  }
  const test::SmallModel model(R"(table t from csv "t.csv" { key id integer  s text  a integer  n integer
  part = substring(s, a, n)  tail = substring(s, a)  size = length(s)  swapped = replace(s, "a", "xy")  trimmed = trim(" " || s || " ") })",
                               {{"t.csv", csv}});
  expect_same_rows(
      model.open(),
      "by t.id show min(part for t) as p, min(tail for t) as t, min(size for t) as n, min(swapped for t) as r, "
      "min(trimmed for t) as m",
      sql +
          "commit;\nselect id, substr(s, a, n), substr(s, a), length(s), replace(s, 'a', 'xy'), "
          "trim(' ' || s || ' ') from t order by id;");
}

TEST(AgainstSqlite, EveryDayOfFortyYears) {
  std::string csv = "id,d,at\n";
  for (int i = 0; i < 14610; ++i) {
    const Value day = Value::of(static_cast<int128>(7305 + i));  // from 1990-01-01
    const std::string text = to_text(day, {TypeKind::date, 0});
    csv += fmt::format("{},{},{} {:02}:{:02}:{:02}\n", i, text, text, i % 24, i % 60, i * 7 % 60);
  }
  const test::SmallModel model(R"(table t from csv "t.csv" { key id integer  d date  at datetime
  y = year(d)  q = quarter(d)  m = month(d)  k = day(d)  w = weekday(d)  h = hour(at)  n = minute(at)  s = second(at)
  later = add_days(d, 400)  day_only = date(at)  apart = days_between(date "2000-02-29", d) })",
                               {{"t.csv", csv}});
  model.folder.write("d.csv", csv);
  const std::string import = fmt::format(".import --csv {} t\n", model.folder.path("d.csv"));
  expect_same_rows(
      model.open(),
      "by t.id show max(y for t) as y, max(q for t) as q, max(m for t) as m, max(k for t) as k, max(w for t) as w, "
      "max(h for t) as h, max(n for t) as n, max(s for t) as s, max(later for t) as l, max(day_only for t) as o, "
      "max(apart for t) as a",
      import +
          "select id, cast(strftime('%Y', d) as integer), (strftime('%m', d) + 2) / 3, cast(strftime('%m', d) as "
          "integer), cast(strftime('%d', d) as integer), case strftime('%w', d) when '0' then 7 else "
          "strftime('%w', d) + 0 end, cast(strftime('%H', at) as integer), cast(strftime('%M', at) as integer), "
          "cast(strftime('%S', at) as integer), date(d, '+400 days'), date(at), cast(julianday(d) - "
          "julianday('2000-02-29') as integer) from t order by cast(id as integer);");
}

// More rows than a chunk has: what meets at the borders of blocks, chunks and threads.
class ManyRows : public testing::Test {
 protected:
  static constexpr std::int64_t rows = test::is_sanitized ? 150'000 : 300'000;
  static void SetUpTestSuite() {
    std::string csv = "id,g,x,s,k,w\n";
    for (std::int64_t i = 0; i < rows; ++i) {
      fmt::format_to(std::back_inserter(csv), "{},{},{},", i, i * 7919 % 1013,
                     i % 11 == 0 ? "" : std::to_string((i * i + 7) % 977 - 400));
      fmt::format_to(std::back_inserter(csv), "{},{},{}\n", i % 13 == 0 ? "" : fmt::format("k{}", i * 31 % 5003),
                     i / 70'000, i % 2503 * (i % 3 + 1));
    }
    model_ = new test::SmallModel(R"(table t from csv "t.csv" { key id integer  g integer  x integer  s text  k integer
  w integer }
table o from csv "o.csv" { key k integer  name text }
link t.k -> o.k)",
                                  {{"t.csv", csv}, {"o.csv", "k,name\n0,zero\n1,one\n2,two\n4,four\n"}});
  }
  static void TearDownTestSuite() { delete model_; }
  static void expect(const std::string& query, const std::string& select) {
    Options options;
    options.threads = 3;
    expect_same_rows(
        model_->open(options), query,
        fmt::format(
            "create table o(k integer, name text);\ninsert into o values (0, 'zero'), (1, 'one'), (2, 'two'), (4, "
            "'four');\ncreate table t as with recursive c(i) as (select 0 union all select i + 1 from c where i < "
            "{} - 1) select i as id, i * 7919 % 1013 as g, case when i % 11 <> 0 then (i * i + 7) % 977 - 400 end as "
            "x, "
            "case when i % 13 <> 0 then 'k' || (i * 31 % 5003) end as s, i / 70000 as k, i % 2503 * (i % 3 + 1) as w "
            "from c;\n{};",
            rows, select));
  }
  static test::SmallModel* model_;
};
test::SmallModel* ManyRows::model_ = nullptr;

TEST_F(ManyRows, OneGroup) {
  expect(
      "show sum(x for t) as a, count(x for t) as b, count(distinct s for t) as c, min(s for t) as d, max(s for t) as "
      "e, count(distinct x * 2 + g for t) as f",
      "select sum(x), count(x), count(distinct s), min(s), max(s), count(distinct x * 2 + g) from t");
}

TEST_F(ManyRows, AThousandGroups) {
  expect("by t.g show sum(x for t where x > 0) as a, count(distinct s for t) as b, min(s for t) as c",
         "select g, sum(case when x > 0 then x end), count(distinct s), min(s) from t group by g order by g");
}

// Thousands of groups of one key are numbered by its codes: of `w`, many have no rows.
TEST_F(ManyRows, ThousandsOfGroupsOfOneKey) {
  expect("by t.w show sum(g for t) as a, count(t) as b, max(s for t) as c, sum(x for t where g < 500) as d",
         "select w, sum(g), count(*), max(s), sum(case when g < 500 then x end) from t group by w order by w");
  expect("by t.s show sum(x for t) as a, min(g * 2 for t) as b, count(t where x > 0) as c total grand",
         "select * from (select s, sum(x), min(g * 2), count(case when x > 0 then 1 end) from t group by s order by s "
         "is null, s) union all select null, sum(x), min(g * 2), count(case when x > 0 then 1 end) from t");
  expect("by t.w show count(distinct g for t) as a, max(x for t) as b",
         "select w, count(distinct g), max(x) from t group by w order by w");
}

TEST_F(ManyRows, AsManyGroupsAsRows) {
  expect("by t.id, t.k show sum(x * g for t) as a where t.g < 40",
         "select id, k, sum(x * g) from t where g < 40 group by id, k having sum(x * g) is not null order by id");
}

TEST_F(ManyRows, ConditionsByCodeByValueAndBehindALink) {
  expect(
      "by t.k show sum(x for t) as a, count(t where x > 100 or g < 5) as b, sum(g for t where o.name like \"%o%\") as "
      "c "
      "where t.g between 100 and 700 and t.id < 250000 and o.name <> \"two\"",
      "select t.k, sum(x), count(case when x > 100 or g < 5 then 1 end), sum(case when o.name like '%o%' then g end) "
      "from t "
      "left join o on t.k = o.k where g between 100 and 700 and id < 250000 and o.name <> 'two' group by t.k order by "
      "t.k");
  expect(
      "by o.name show count(t) as a where t.s = \"k77\" and t.x is not null",
      "select o.name, count(*) from t left join o on t.k = o.k where s = 'k77' and x is not null group by o.name order "
      "by o.name is null, o.name");
}

TEST_F(ManyRows, ExpressionsOverSeveralColumns) {
  expect(
      "by t.k show sum(case when x > 50 and g > 500 then x * 2 when s is null then g else 1 end for t) as a, "
      "sum(coalesce(x, g, 3) for t) as b, max(round(g * x * 0.013, 1) for t) as c",
      "select k, sum(case when x > 50 and g > 500 then x * 2 when s is null then g else 1 end), sum(coalesce(x, g, "
      "3)), "
      "max(round(g * x * 0.013, 1)) from t group by k order by k");
}

TEST_F(ManyRows, GroupsOfGroups) {
  expect(
      "by t.k show sum(q.n for q in group t by g with n = sum(x for rows)) as a, max(q.m for q in group t by g "
      "with m = count(rows)) as b",
      "select k, sum(n), max(m) from (select k, g, sum(x) as n, count(*) as m from t group by k, g) group by k order "
      "by k");
}

TEST_F(ManyRows, TheFirstOfManyByAMeasure) {
  expect("by t.g, t.k show sum(x for t) as a sort a desc limit 7",
         "select g, k, sum(x) as a from t group by g, k order by a desc nulls last, g, k limit 7");
}

TEST_F(ManyRows, AQuestionCanBeCalledOff) {
  const auto called_off = std::make_shared<std::atomic<bool>>(false);
  Options options;
  options.threads = 3;
  options.cancelled = called_off;
  const Dataset dataset = model_->open(options);
  // Each of these goes over the rows in another way: a scan, pairs that are written out, values by row.
  const std::vector<std::string> questions{
      "by t.id show sum(x for t)", "show max(sum(u.x for u in t where u.k = v.k and u.id <= v.id) for v in t)",
      "show count(v in t where (rank(v.x among u.x for u in t where u.g = v.g)) < 3)"};
  for (const std::string& question : questions) {
    called_off->store(true);
    const auto stopped = ask(dataset, {question});
    ASSERT_FALSE(stopped) << question;
    EXPECT_EQ(stopped.error()[0].code, "JR-707");
    called_off->store(false);
    std::jthread soon([&] {
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
      called_off->store(true);
    });
    const auto meanwhile = ask(dataset, {question});
    EXPECT_TRUE(meanwhile || meanwhile.error()[0].code == "JR-707");
  }
  called_off->store(false);
  EXPECT_TRUE(ask(dataset, {questions[0]}));
  // SQLite would take hours for what the engine answers at once.
  auto twin = SqliteTwin::open(dataset);
  ASSERT_TRUE(twin);
  const test::Deadline deadline(called_off, std::chrono::milliseconds(500));
  const auto stopped = twin->compare({"show max(sum(u.x for u in t where u.id <= v.id) for v in t)"});
  ASSERT_FALSE(stopped);
  EXPECT_EQ(stopped.error()[0].code, "JR-707");
}

TEST_F(ManyRows, MemoryIsLimited) {
  Options options;
  options.threads = 3;
  options.memory = 1'000'000;
  const auto refused = ask(model_->open(options), {"by t.id, t.g show sum(x for t), sum(x * g for t)"});
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error()[0].code, "JR-708");
  EXPECT_NE(refused.error()[0].message.find("more than the 1.00 MB that it may"), std::string::npos)
      << refused.error()[0].message;
  EXPECT_NE(refused.error()[0].suggestion.find("--memory"), std::string::npos);
  // Pairs of all rows with all are written out; they are more than any machine holds.
  options.memory = 100'000'000;
  const auto pairs =
      ask(model_->open(options),
          {"show first((let (l = (t)) coalesce(min(u.x for u in l), 0)) by v.k for v in (t) with (f = v.x))"});
  ASSERT_FALSE(pairs);
  EXPECT_EQ(pairs.error()[0].code, "JR-708") << test::messages(pairs.error());
  // Of the groups alone, which are mapped, three threads take more than this; nothing else does.
  options.memory = 40 * rows;
  const auto mapped = ask(model_->open(options), {"by t.id show sum(x for t) as a sort a limit 1"});
  ASSERT_FALSE(mapped);
  EXPECT_EQ(mapped.error()[0].code, "JR-708");
  options.memory = 1'000'000'000;
  EXPECT_TRUE(ask(model_->open(options), {"by t.id, t.g show sum(x for t), sum(x * g for t)"}));
}

TEST_F(ManyRows, GroupsBehindALinkThatFollowEachOther) {
  expect("by o.name show sum(x for t) as a, count(t) as b, count(distinct g for t) as c",
         "select o.name, sum(x), count(*), count(distinct g) from t left join o on t.k = o.k group by o.name order by "
         "o.name is null, o.name");
  expect("by o.name, t.k show max(s for t) as a where t.id >= 69999 and t.id <= 140001",
         "select o.name, t.k, max(s) from t left join o on t.k = o.k where id between 69999 and 140001 group by "
         "o.name, t.k order by o.name is null, o.name, t.k");
}

}  // namespace
}  // namespace juniper::against_sqlite_test
