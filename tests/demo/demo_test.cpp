// The demo: the same bytes everywhere, shapes as in life, and every saved query against SQL written by hand.
#include "juniper/demo.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "juniper/links.h"
#include "support/sqlite.h"
#include "support/support.h"

namespace juniper::demo_test {
namespace {

const std::string small = std::string(JUNIPER_SOURCE_DIR) + "/demo/small";

// The copy in the repository is what the generator makes: on this machine, with this library.
TEST(Demo, TheSmallCopyIsWhatTheGeneratorMakes) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {12'000, 7}));
  std::uint64_t bytes = 0;
  for (const char* name : {"charging.ridge", "data/sessions-2023.csv", "data/sessions-2024.csv",
                           "data/sessions-2025.csv", "data/bays.csv", "data/stations.csv", "data/tariffs.csv",
                           "data/cards.csv", "data/days.csv", "data/visits.csv", "data/crews.csv"}) {
    const std::string committed = test::read_file(small + "/" + name);
    EXPECT_FALSE(committed.empty()) << name;
    EXPECT_TRUE(committed == test::read_file(folder.path("d/" + std::string(name))))
        << name << " differs: run `juniper demo` again with 12000 sessions and seed 7";
    bytes += committed.size();
  }
  EXPECT_LT(bytes, 5'000'000U);
}

TEST(Demo, AnotherSeedMakesOtherData) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("a"), {1000, 1}));
  ASSERT_TRUE(write_demo(folder.path("b"), {1000, 2}));
  EXPECT_NE(test::read_file(folder.path("a/data/sessions-2024.csv")),
            test::read_file(folder.path("b/data/sessions-2024.csv")));
  EXPECT_EQ(write_demo(folder.write("file", "x"), {1000, 1}).error()[0].code, "JR-002");
}

TEST(Demo, WritesIntoNoFolderOfSomebodyElse) {
  const test::TempFolder folder;
  folder.write("mine/letter.txt", "dear");
  EXPECT_EQ(write_demo(folder.path("mine"), {1000, 1}).error()[0].code, "JR-004");
}

class DemoData : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    folder_ = new test::TempFolder;
    Options options;
    options.store = folder_->path("small.jrs");
    auto opened = Dataset::open(small + "/charging.ridge", options);
    ASSERT_TRUE(opened) << test::messages(opened.error());
    dataset_ = new Dataset(*opened);
  }
  static void TearDownTestSuite() {
    delete dataset_;
    delete folder_;
  }
  static double number(const std::string& query) { return std::stod(test::answer(*dataset_, query)); }
  static test::TempFolder* folder_;
  static Dataset* dataset_;
};
test::TempFolder* DemoData::folder_ = nullptr;
Dataset* DemoData::dataset_ = nullptr;

TEST_F(DemoData, HasTheShapesOfLife) {
  EXPECT_EQ(number("show n_sessions"), 12'000);
  // A few busy bays: the first tenth of them carries a large part of the sessions.
  const auto bays = ask(*dataset_, {"by sessions.bay_id show n_sessions sort n_sessions desc", {}});
  double busy = 0;
  for (std::size_t i = 0; i < bays->rows.size() / 10; ++i) busy += static_cast<double>(bays->rows[i].cells[1].exact());
  EXPECT_GT(busy, 12'000 * 0.3);
  // A long tail of cards: many with one session only.
  const auto cards = ask(*dataset_, {"by sessions.card_id show n_sessions sort n_sessions", {}});
  EXPECT_LT(cards->rows[cards->rows.size() / 2].cells[1].exact() * 10, cards->rows.back().cells[1].exact());
  // More in the evening than at night, in winter than in summer, and more from year to year.
  const auto by_hour = [&](int from, int to) {
    return number(fmt::format("show count(sessions where hour(started) >= {} and hour(started) < {}) as n", from, to));
  };
  EXPECT_GT(by_hour(17, 20), 5 * by_hour(1, 4));
  EXPECT_GT(number("show n_sessions where days.month in (1, 12)"),
            1.15 * number("show n_sessions where days.month in (5, 6)"));
  EXPECT_GT(number("show n_sessions where days.year = 2025"), 1.2 * number("show n_sessions where days.year = 2024"));
}

// The flaws that demo/flaws.md lists are really there.
TEST_F(DemoData, ThePlantedFlawsAreThere) {
  std::map<std::string, LinkUse> uses;
  const auto all = links(*dataset_, 100);
  ASSERT_TRUE(all);
  for (const LinkUse& use : all->links) uses[use.link] = use;
  const LinkUse& tariffs = uses["sessions.tariff_code -> tariffs.tariff_code"];
  EXPECT_EQ(tariffs.orphan_keys, 4U);
  EXPECT_GT(tariffs.null_rows, 0U);
  EXPECT_EQ(uses["sessions.start_day -> days.day"].orphan_keys, 3U);
  EXPECT_GT(uses["sessions.bay_id -> bays.bay_id"].orphan_rows, 0U);
  EXPECT_GT(uses["visits.bay_id -> bays.bay_id"].orphan_rows, 0U);
  EXPECT_LT(uses["sessions.card_id -> cards.card_id"].used_rows * 5,
            uses["sessions.card_id -> cards.card_id"].one_rows);
  EXPECT_EQ(test::answer(*dataset_, "show count(distinct currency for sessions)"), "1");
  EXPECT_EQ(number("show count(distinct row_no for sessions)"), 12'000);
  EXPECT_EQ(test::answer(*dataset_, "show count(distinct all_energy for sessions)"), "1");
  EXPECT_GT(number("show count(sessions where energy_kwh = 0) as n") + 1, 0);
  EXPECT_LT(number("show count(distinct started for sessions)"), 12'001);
  EXPECT_LT(number("show count(distinct time(started) for sessions) + 0"),
            number("show count(distinct started for sessions)"));
}

// --- every saved query, by hand -------------------------------------------------------------------------------------

// The files as SQLite's own shell reads them. Decimals become whole numbers: energy in Wh, prices in ten-thousandths,
// amounts in hundredths. S is a session with everything that its links lead to, V a visit, B a bay, T a station.
std::string import_script() {
  std::string script =
      ".import --csv {0}/sessions-2023.csv sessions\n.import --csv --skip 1 {0}/sessions-2024.csv sessions\n.import "
      "--csv --skip 1 {0}/sessions-2025.csv sessions\n";
  for (const char* table : {"bays", "stations", "tariffs", "cards", "days", "visits", "crews"})
    script += std::string(".import --csv {0}/") + table + ".csv " + table + "\n";
  return fmt::format(fmt::runtime(script), small + "/data") + R"(
create table S as
  select e.*, (e.energy * e.price + 50000) / 100000 as energy_charge, (e.idle * e.idle_price + 50) / 100 as idle_charge,
         (e.energy * e.price + 50000) / 100000 + coalesce((e.idle * e.idle_price + 50) / 100, 0) as gross
  from (select cast(s.session_id as integer) as session_id, cast(s.bay_id as integer) as bay_id, cast(s.card_id as integer) as card_id, s.channel, s.started,
               s.channel_name, cast(round(s.air_temp * 10000) as integer) as air, cast(b.max_kw as integer) as max_kw,
               strftime('%s', substr(s.settled, 1, 19)) * 1000000 + substr(s.settled, 21, 6) as settled,
               cast(round(s.energy_kwh * 1000) as integer) as energy, cast(s.idle_minutes as integer) as idle,
               cast(round(t.price_per_kwh * 10000) as integer) as price, cast(round(nullif(t.idle_price, '') * 10000) as integer) as idle_price, t.plan,
               cast(d.year as integer) as year, cast(d.quarter as integer) as quarter, d.month_name, d.weekday_name, cast(e.year as integer) as end_year,
               st.region, st.name, c.holder,
               case when s.kwh >= 40 then 'large' when s.kwh >= 15 then 'medium' else 'small' end as size
        from (select *, energy_kwh + 0 as kwh from sessions) s
        left join tariffs t on t.tariff_code = s.tariff_code left join days d on d.day = s.start_day left join days e on e.day = s.end_day
        left join bays b on b.bay_id = s.bay_id left join stations st on st.station_id = b.station_id left join cards c on c.card_id = s.card_id) e;
create table V as
  select cast(round(v.cost * 100) as integer) as cost, cast(d.year as integer) as year, st.region, w.leader
  from visits v left join crews w on w.crew = v.crew and w.shift = v.shift left join bays b on b.bay_id = v.bay_id left join stations st on st.station_id = b.station_id left join days d on d.day = v.visit_day;
create table B as select cast(b.max_kw as integer) as max_kw, st.region, (select count(*) from sessions s where s.bay_id = b.bay_id) as n_started from bays b left join stations st on st.station_id = b.station_id;
create table T as select region, (select count(*) from stations o where o.region = t.region and o.installed < t.installed and cast(o.station_id as integer) < cast(t.station_id as integer)) as elders from stations t;
)";
}

// A saved query in SQL. In a measure, {S} stands for "from S where" and the keys of the group, and so for the other
// tables.
struct Twin {
  std::string query;
  std::vector<std::string> keys;     // columns of the tables
  std::vector<std::string> rows_in;  // the tables whose combinations are the rows
  std::vector<std::string> measures;
  std::string where = "true";
};

const std::string revenue = "(select sum(gross) {S})";
const std::string energy = "(select sum(energy) {S})";
const std::string sessions = "(select count(*) {S})";
const std::string cost = "(select sum(cost) {V})";
const std::string price = "(" + revenue + " / 100.0) / (" + energy + " / 1000.0)";

const std::vector<Twin>& twins() {
  static const std::vector<Twin> all{
      {"monthly", {"year", "month_name"}, {"S"}, {sessions, energy, revenue, price}},
      {"regions",
       {"region"},
       {"S", "V"},
       {sessions, energy, revenue, price, "(select avg((gross / 100.0) / nullif(energy / 1000.0, 0)) {S})",
        "(select count(distinct card_id) {S})", cost, cost + " * 1.0 / " + revenue}},
      {"plans",
       {"plan"},
       {"S"},
       {sessions, "(select sum(energy_charge) {S})", "(select sum(idle_charge) {S})", revenue,
        "(select max(idle) {S})"}},
      {"top_stations",
       {"name", "region"},
       {"S"},
       {sessions, revenue, energy + " / 1000.0 / " + sessions, "(select count(distinct bay_id) {S})"}},
      {"channels",
       {"channel", "quarter"},
       {"S"},
       {sessions, revenue, "(select sum(gross) {S} and channel = 'app')"},
       "year = 2025"},
      {"sizes", {"size"}, {"S"}, {sessions, energy, revenue}},
      {"weekdays",
       {"weekday_name"},
       {"S"},
       {sessions, energy, energy + " / 1000.0 / " + sessions},
       "region in ('Coast', 'Upland') and channel <> 'roaming'"},
      {"maintenance", {"region", "year"}, {"S", "V"}, {"(select count(*) {V})", cost, sessions}},
      {"equipment", {"region"}, {"T", "B"}, {"(select count(*) {T})", "(select count(*) {B} and max_kw >= 150)"}},
      {"arrivals",
       {"end_year"},
       {"S"},
       {sessions, energy, "(select count(*) {S} and started < '2024-01-01 00:00:00')"}},
      {"holders", {"holder", "plan"}, {"S"}, {revenue, sessions}, "idle > 0"},
      {"settlement",
       {"channel_name"},
       {"S"},
       {sessions, "(select avg(air / 10000.0) {S})", "(select max(settled) {S})"}},
      {"second_look",
       {"region"},
       {"S", "V", "B", "T"},
       {energy + " / 1000.0 * (select avg(price / 10000.0) {S})",
        "(select avg(p) from (select (sum(gross) / 100.0) / (sum(energy) / 1000.0) as p {S} and x.name is not null "
        "group by x.name))",
        "(select sum(gross) {S} and plan = 'roaming')", "(select count(*) {S} and max_kw >= 150)",
        "(select count(*) {V})", "(select max(n_started) {B})", "(select max(elders) {T})"}},
      {"crew_leaders", {"leader"}, {"V"}, {"(select count(*) {V})", cost}},
  };
  return all;
}

std::string with_tables(std::string measure, const std::string& keys, const std::string& where) {
  for (const char* table : {"S", "V", "B", "T"}) {
    const std::string mark = std::string("{") + table + "}";
    for (std::size_t at = measure.find(mark); at != std::string::npos; at = measure.find(mark))
      measure.replace(at, mark.size(), std::string("from ") + table + " x where " + where + keys);
  }
  return measure;
}

// The SQL of one level of a query.
std::string level_sql(const Twin& twin, const std::vector<bool>& kept) {
  std::string match;
  std::string list;
  for (std::size_t k = 0; k < twin.keys.size(); ++k) {
    if (!kept[k]) continue;
    match += " and x." + twin.keys[k] + " is k." + twin.keys[k];
    list += (list.empty() ? "" : ", ") + twin.keys[k];
  }
  std::string combinations;
  for (const std::string& table : twin.rows_in)
    combinations += (combinations.empty() ? "" : " union ") + std::string("select distinct ") +
                    (list.empty() ? "1" : list) + " from " + table + " where " + twin.where;
  std::string sql = "select " + (list.empty() ? std::string("1") : list);
  for (const std::string& measure : twin.measures) sql += ", " + with_tables(measure, match, twin.where);
  return sql + " from (" + combinations + ") k;\n";
}

std::string key_of(const std::vector<std::string>& keys) {
  return fmt::format("{}", fmt::join(keys, "|"));
}

void expect_cell(const Value& value, const ResultColumn& column, const std::string& expected,
                 const std::string& where) {
  if (value.is_null() || expected == "null") {
    EXPECT_EQ(value.is_null() ? "null" : to_text(value, column.type), expected) << where;
  } else if (column.type.kind == TypeKind::real) {
    const double wanted = std::stod(expected);
    EXPECT_NEAR(value.real(), wanted, 1e-9 * std::fabs(wanted)) << where;
  } else {
    EXPECT_EQ(to_text(value, {TypeKind::integer, 0}), expected) << where;  // units: Wh, hundredths
  }
}

TEST_F(DemoData, EverySavedQueryAgreesWithSqlByHand) {
  std::set<std::string> covered;
  std::string script = import_script();
  std::vector<std::pair<const Twin*, QueryResult>> results;
  for (const Twin& twin : twins()) {
    const auto result = ask(*dataset_, {twin.query, {}});
    ASSERT_TRUE(result) << test::messages(result.error());
    covered.insert(twin.query);
    for (const auto& kept : result->kept) script += "select '--';\n" + level_sql(twin, kept);
    results.emplace_back(&twin, *result);
  }
  for (const std::string& query : names_of(dataset_->model().queries()))
    EXPECT_TRUE(covered.contains(query)) << query << " has no SQL twin";
  const auto rows = test::run_sqlite(script);
  std::size_t next = 0;
  std::size_t cells = 0;
  for (const auto& [twin, result] : results) {
    for (std::uint32_t level = 0; level < result.levels.size(); ++level) {
      const auto kept =
          static_cast<std::size_t>(std::count(result.kept[level].begin(), result.kept[level].end(), true));
      ASSERT_EQ(rows.at(next++), std::vector<std::string>{"--"});
      std::map<std::string, std::vector<std::string>> expected;
      for (; next < rows.size() && rows[next] != std::vector<std::string>{"--"}; ++next) {
        const auto& row = rows[next];
        const std::size_t keys = std::max<std::size_t>(kept, 1);
        const std::vector<std::string> measures(row.begin() + static_cast<std::ptrdiff_t>(keys), row.end());
        if (std::all_of(measures.begin(), measures.end(), [](const std::string& m) { return m == "null"; })) continue;
        expected[kept == 0 ? "" : key_of({row.begin(), row.begin() + static_cast<std::ptrdiff_t>(keys)})] = measures;
      }
      std::size_t seen = 0;
      for (const ResultRow& row : result.rows) {
        if (row.level != level) continue;
        ++seen;
        std::vector<std::string> keys;
        for (std::size_t k = 0; k < result.kept[level].size(); ++k) {
          if (result.kept[level][k])
            keys.push_back(row.cells[k].is_null() ? "null" : to_text(row.cells[k], result.columns[k].type));
        }
        const std::string where = twin->query + " " + result.levels[level] + " " + key_of(keys);
        ASSERT_TRUE(expected.contains(key_of(keys))) << where;
        const auto& measures = expected[key_of(keys)];
        for (std::size_t m = 0; m < measures.size(); ++m) {
          expect_cell(row.cells[result.kept[level].size() + m], result.columns[result.kept[level].size() + m],
                      measures[m], where);
          ++cells;
        }
      }
      // Only a limit leaves rows out.
      if (twin->query == "top_stations" && level == 0) {
        EXPECT_EQ(seen, 10U);
      } else {
        EXPECT_EQ(seen, expected.size()) << twin->query << " " << result.levels[level];
      }
    }
  }
  EXPECT_GT(cells, 500U);
}

TEST_F(DemoData, TheTenBusiestStationsAreTheBusiest) {
  const auto limited = ask(*dataset_, {"top_stations", {}});
  const auto rows = test::run_sqlite(import_script() +
                                     "select name, count(*) from S group by name, region order by 2 desc, 1 limit 10;");
  for (std::size_t i = 0; i < 10; ++i)
    EXPECT_EQ(to_text(limited->rows[i].cells[2], {TypeKind::integer, 0}), rows[i][1]);
}

}  // namespace
}  // namespace juniper::demo_test
