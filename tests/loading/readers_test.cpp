// What a reader sees is what there would be if the files held the reader's rows alone, and what is hidden can't be asked for.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <functional>
#include <set>

#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/describe.h"
#include "juniper/draft.h"
#include "juniper/export.h"
#include "juniper/links.h"
#include "juniper/refactor.h"
#include "juniper/sql.h"
#include "juniper/unfold.h"
#include "random/drawn_model.h"
#include "random/random_model.h"
#include "random/random_query.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::readers_test {
namespace {

constexpr const char* tables = R"(table sessions from csv "s.csv" {
  key id integer
  bay integer
  card text
  day date
  kwh decimal(1)
  share = kwh / sum(s.kwh for s in sessions)
  before = count(s in sessions where s.bay = this.bay and s.day < this.day)
  price = bays.stations.price * kwh
}
table bays from csv "b.csv" { key bay integer  station text  n_sessions = count(sessions of this) }
table stations from csv "t.csv" { key station text  region text  price decimal(2) }
table cards from csv "c.csv" reached from sessions { key card text  holder text }
table days from csv "d.csv" { key day date  month integer }
table regions = distinct(stations.region)
table busy = bays where n_sessions > 2
link sessions.bay -> bays.bay
link sessions.card -> cards.card
link sessions.day -> days.day
link bays.station -> stations.station
link stations.region -> regions.region
calendar days.day periods (month)
param limit = 40.0
measure energy = sum(kwh for sessions)
measure n = count(sessions)
measure all_energy = (energy across everything)
measure part = energy / all_energy
measure top = max(energy of s for s in stations)
measure largest = max(kwh for sessions)
measure n_bays = count(bays)
measure n_regions = count(regions)
measure n_busy = count(busy)
measure holders = count(distinct holder for cards)
measure month_before = (energy during shift(-1 month))
measure fees = sum(price for sessions)
measure named = list(distinct_card, ", " for distinct(sessions.card as distinct_card) sorted by distinct_card)
query by_region { by stations.region  show energy, n, part  total grand }
query by_card { by cards.card  show energy }
query by_fee { by stations.region  show fees }
)";

struct Row {
  std::vector<std::string> cells;
};
struct Data {
  std::vector<Row> sessions, bays, stations, cards, days;
};

Data drawn(std::uint64_t seed) {
  test::Random random(seed);
  Data data;
  for (int i = 0; i < 6; ++i) {
    const char* const regions[]{"Coast", "Upland", "Lakes"};
    data.stations.push_back({{fmt::format("st{}", i), i == 5 ? "" : regions[i % 3], fmt::format("0.{}{}", i + 1, i)}});
  }
  for (int i = 0; i < 15; ++i)
    data.bays.push_back({{fmt::format("{}", i), i == 14 ? "nowhere" : fmt::format("st{}", test::pick(random, 6))}});
  for (int i = 0; i < 9; ++i)
    data.cards.push_back({{fmt::format("card{}", i), i % 2 == 0 ? "fleet" : fmt::format("holder{}", i)}});
  for (int m = 1; m <= 3; ++m) {
    for (int d = 1; d <= 4; ++d) data.days.push_back({{fmt::format("2025-0{}-0{}", m, d), fmt::format("{}", m)}});
  }
  for (int i = 0; i < 120; ++i) {
    data.sessions.push_back({{fmt::format("{}", i), fmt::format("{}", test::pick(random, 17)),
                              fmt::format("card{}", test::pick(random, 11)), data.days[test::pick(random, 12)].cells[0],
                              fmt::format("{}.{}", test::pick(random, 90), test::pick(random, 10))}});
  }
  return data;
}

using Keep = std::function<bool(const Row&)>;
std::vector<Row> kept(const std::vector<Row>& rows, const Keep& keep) {
  std::vector<Row> result;
  std::copy_if(rows.begin(), rows.end(), std::back_inserter(result), keep);
  return result;
}
// The rows whose cell leads to one of `rows`.
std::vector<Row> leading_to(const std::vector<Row>& from, std::size_t cell, const std::vector<Row>& rows) {
  return kept(from, [&](const Row& row) {
    return std::any_of(rows.begin(), rows.end(), [&](const Row& to) { return to.cells[0] == row.cells[cell]; });
  });
}

test::SmallModel files_of(const Data& data, const std::string& text) {
  const auto csv = [](std::string out, const std::vector<Row>& rows) {
    for (const Row& row : rows) out += fmt::format("\n{}", fmt::join(row.cells, ","));
    return out + "\n";
  };
  return {text,
          {{"s.csv", csv("id,bay,card,day,kwh", data.sessions)},
           {"b.csv", csv("bay,station", data.bays)},
           {"t.csv", csv("station,region,price", data.stations)},
           {"c.csv", csv("card,holder", data.cards)},
           {"d.csv", csv("day,month", data.days)}}};
}

Options as(const std::string& reader) {
  Options options;
  options.reading.reader = reader;
  return options;
}

struct Case {
  std::string rows;                       // what the reader's declaration says
  std::function<Data(const Data&)> only;  // the same, done to the files
};

std::vector<Case> cases() {
  return {
      {"stations where region = \"Coast\"",
       [](const Data& all) {
         Data data = all;
         data.stations = kept(all.stations, [](const Row& row) { return row.cells[1] == "Coast"; });
         data.bays = leading_to(all.bays, 1, data.stations);
         data.sessions = leading_to(all.sessions, 1, data.bays);
         return data;
       }},
      {"cards where holder <> \"fleet\"  days where month > 1",
       [](const Data& all) {
         Data data = all;
         data.cards = kept(all.cards, [](const Row& row) { return row.cells[1] != "fleet"; });
         data.days = kept(all.days, [](const Row& row) { return row.cells[1] != "1"; });
         data.sessions = leading_to(leading_to(all.sessions, 2, data.cards), 3, data.days);
         return data;
       }},
      {"sessions where kwh < limit and bays.stations.region <> \"Lakes\"",
       [](const Data& all) {
         Data data = all;
         const auto region = [&](const Row& row) -> std::string {
           for (const Row& bay : all.bays) {
             if (bay.cells[0] != row.cells[1]) continue;
             for (const Row& station : all.stations) {
               if (station.cells[0] == bay.cells[1]) return station.cells[1];
             }
           }
           return "";
         };
         data.sessions = kept(all.sessions, [&](const Row& row) {
           return std::stod(row.cells[4]) < 40 && !region(row).empty() && region(row) != "Lakes";
         });
         return data;
       }},
      // Of a column that only everybody's data tells: bays with many sessions.
      {"bays where n_sessions > 8",
       [](const Data& all) {
         Data data = all;
         data.bays = kept(all.bays, [&](const Row& bay) {
           return std::count_if(all.sessions.begin(), all.sessions.end(),
                                [&](const Row& session) { return session.cells[1] == bay.cells[0]; }) > 8;
         });
         data.sessions = leading_to(all.sessions, 1, data.bays);
         return data;
       }},
      {"stations where false",
       [](const Data& all) {
         Data data = all;
         data.stations.clear();
         data.bays.clear();
         data.sessions.clear();
         return data;
       }},
      {"", [](const Data& all) { return all; }},
  };
}

TEST(Readers, SeeWhatThereWouldBeOfTheirRowsAlone) {
  const std::uint64_t seed = test::test_seed(20261201);
  const Data all = drawn(seed);
  for (const Case& each : cases()) {
    SCOPED_TRACE(fmt::format("seed {}: {}", seed, each.rows));
    const test::SmallModel files = files_of(all, tables + fmt::format("reader team \"A team\" {{ {} }}\n", each.rows));
    const Dataset seen = files.open(as("team"));
    const Dataset expected = files_of(each.only(all), tables).open();
    std::vector<std::string> queries{"by_region", "by_card", "by_fee"};
    for (const MeasureInfo& measure : expected.model().measures()) {
      queries.push_back("show " + measure.name);
      if (measure.name != "top") queries.push_back("by days.month show " + measure.name + ", n total grand");
    }
    for (const TableInfo& table : expected.model().tables()) {
      queries.push_back(fmt::format("show count({0}) as n", table.name));
      for (const ColumnInfo& column : table.columns) {
        const std::string name = table.name + "." + column.name;
        if (column.type.kind != TypeKind::real)
          queries.push_back(fmt::format("by {} show count({}) as c", name, table.name));
        queries.push_back(fmt::format("show min({0} for {1}) as a, max({0} for {1}) as b", column.name, table.name));
      }
    }
    for (const std::string& query : queries) {
      for (const Plan plan : {Plan::engine, Plan::naive}) {
        Question question{query};
        question.plan = plan;
        const auto answer = ask(seen, question);
        const auto wanted = ask(expected, question);
        ASSERT_EQ(answer.has_value(), wanted.has_value())
            << query << test::messages(answer ? wanted.error() : answer.error());
        if (answer) {
          EXPECT_EQ(test::answer_difference(wanted, answer), "") << query;
        }
      }
    }
    const auto unfolded = unfold(seen, "energy");
    ASSERT_TRUE(unfolded.has_value());
    for (const UnfoldedPart& part : unfolded->parts) {
      for (const UnfoldedRow& row : part.rows) EXPECT_EQ(row.record != 0, each.rows.empty()) << "a place in the files";
    }
    // It stands beside, is fresh the next time, and everybody's is as it was.
    const std::string stored = files.folder.path("model.team.jrs");
    const auto written = std::filesystem::last_write_time(stored);
    EXPECT_EQ(test::answer(files.open(as("team")), "show n"), test::answer(expected, "show n"));
    EXPECT_EQ(std::filesystem::last_write_time(stored), written);
    EXPECT_EQ(test::answer(files.open(), "show n"), "120");
  }
}

// The first column of a table that its links without a role lead to, where these are all the same; never null in a row
// that a link leads to.
std::string linked_column(const test::RandomModel& model, const std::string& table) {
  std::set<std::string> columns;
  for (const std::string& link : model.links) {
    const std::size_t arrow = link.find(" -> " + table + ".");
    if (arrow == std::string::npos || link.find(" as ") != std::string::npos) continue;
    std::string column = link.substr(arrow + 5 + table.size());
    column = column.substr(column[0] == '(' ? 1 : 0);
    columns.insert(column.substr(0, column.find_first_of(",)")));
  }
  return columns.size() == 1 ? *columns.begin() : "";
}

std::string with_row(std::string condition, const std::string& row) {
  for (std::size_t at = condition.find("this."); at != std::string::npos; at = condition.find("this.", at + row.size()))
    condition.replace(at, 4, row);
  return condition;
}

// Any model, any condition: what a reader counts and adds up is what everybody does of the rows for which it holds.
TEST(Readers, OfDrawnModelsSeeTheRowsForWhichTheirConditionsHold) {
  const std::uint64_t seed = test::test_seed(20261202);
  test::Random random(seed);
  std::size_t compared = 0;
  std::size_t followed = 0;
  for (std::size_t round = 0; round < std::max<std::size_t>(60, test::test_count(60)); ++round) {
    test::RandomModel model = test::drawn_model(random, 40);
    if (model.is_extreme) continue;
    const std::size_t table = test::pick(random, model.tables.size());
    if (!model.tables[table].rows.empty()) continue;
    const std::string name = model.tables[table].name;
    const std::string condition = test::random_condition(random, model, table, 1);
    const test::SmallModel files(model.text() + "reader some { " + name + " where " + condition + " }\n",
                                 model.files());
    const auto everybody = Dataset::open(files.path());
    const auto seen = everybody ? Dataset::open(files.path(), as("some")) : everybody;
    if (!seen) continue;
    SCOPED_TRACE(fmt::format("seed {}, round {}: {} where {}\n{}", seed, round, name, condition, model.text()));
    const std::string key = linked_column(model, name);
    for (std::size_t t = 0; t < model.tables.size(); ++t) {
      const test::TableInfo& from = model.tables[t];
      // What holds only rows that others lead to holds fewer where fewer of these are seen.
      const bool is_trimmed =
          t < model.rows_clauses.size() && model.rows_clauses[t].find("reached") != std::string::npos;
      if (!from.rows.empty() || is_trimmed) continue;
      std::string holds;
      if (t == table) {
        holds = with_row(condition, "t");
      } else if (from.leads_to(table)) {
        const bool by_default = std::any_of(from.routes.begin(), from.routes.end(), [&](const test::Route& route) {
          return route.table == table && route.path == name;
        });
        if (!by_default || key.empty()) continue;
        holds = fmt::format("({}) and t.{}.{} is not null", with_row(condition, "t." + name), name, key);
        ++followed;
      } else {
        holds = "true";
      }
      for (const test::ColumnInfo& column : from.columns) {
        if (column.type.kind == TypeKind::real) continue;
        const auto wanted =
            ask(*everybody, {fmt::format("show count(t in {0} where {1}) as n, count(distinct t.{2} for t in "
                                         "{0} where {1}) as d, max(t.{2} for t in {0} where {1}) as m",
                                         from.name, holds, column.name)});
        const auto answer =
            ask(*seen, {fmt::format("show count({0}) as n, count(distinct {1} for {0}) as d, max({1} for {0}) as m",
                                    from.name, column.name)});
        if (!wanted) continue;
        ASSERT_TRUE(answer) << test::messages(answer.error());
        EXPECT_EQ(test::rows_of(*answer), test::rows_of(*wanted))
            << from.name << "." << column.name << " where " << holds;
        ++compared;
      }
    }
  }
  fmt::print("{} columns compared, {} tables over links\n", compared, followed);
  EXPECT_GE(compared, 100U);
  EXPECT_GE(followed, 3U);
}

TEST(Readers, FollowTheDataTheTextAndTheParameters) {
  Data all = drawn(1);
  const std::string text = std::string(tables) + "reader low { sessions where kwh < limit }\n";
  const test::SmallModel files = files_of(all, text);
  const auto seen = [&](const Options& options) { return test::answer(files.open(options), "show largest, n"); };
  const auto wanted = [&](double limit) {
    double largest = 0;
    int n = 0;
    for (const Row& row : all.sessions) {
      const double kwh = std::stod(row.cells[4]);
      if (kwh >= limit) continue;
      ++n;
      largest = std::max(largest, kwh);
    }
    return fmt::format("{:.1f}|{}", largest, n);
  };
  EXPECT_EQ(seen(as("low")), wanted(40));
  Options lower = as("low");
  lower.reading.settings["limit"] = "20.0";
  EXPECT_EQ(seen(lower), wanted(20));
  EXPECT_EQ(seen(as("low")), wanted(40));
  all.sessions.push_back({{"500", "1", "card1", "2025-01-01", "39.9"}});
  files.folder.write("s.csv", test::read_file(files.folder.path("s.csv")) + "500,1,card1,2025-01-01,39.9\n");
  EXPECT_EQ(seen(as("low")), wanted(40));
  files.folder.write("model.ridge", std::string(tables) + "reader low { sessions where kwh < 10 }\n");
  EXPECT_EQ(seen(as("low")), wanted(10));
}

TEST(Readers, CannotAskForWhatIsHidden) {
  const std::string text = std::string(tables) +
                           "function twice(x) = x * 2\nfunction cards_of(x) = count(distinct card for sessions)\n"
                           "reader team { stations where region = \"Coast\"  hide cards.card, sessions.card, "
                           "sessions.price, measure named }\n";
  const test::SmallModel files = files_of(drawn(2), text);
  const Dataset seen = files.open(as("team"));
  for (const std::string query :
       {"by cards.card show energy",
        "by sessions.card show energy",
        "show named",
        "show named as x",
        "show max(sessions.card for sessions) as x",
        "show max(card for sessions) as x",
        "show count(distinct card for sessions) as x",
        "show energy where cards.card = \"card1\"",
        "show count(sessions where card > \"card1\") as x",
        "show sum(twice(price) for sessions) as x",
        "show cards_of(1) as x",
        "show energy across sessions.card as x",
        "show max(energy of c for c in distinct(cards.card)) as x",
        "by left.x show energy",
        "show only(cards.card) as x",
        "show (energy where cards.card = \"card2\") as x",
        "by stations.region show energy having named > \"a\"",
        "by upper(cards.card) as k show energy",
        "show first(kwh by card for sessions) as x",
        "show list(x, \",\" for group sessions by (card as x)) as x",
        "show max(rank(kwh among s.kwh for s in sessions where s.card = this.card) for sessions) as x",
        "by_card",
        "with measure energy = max(card for sessions) show mean"}) {
    const auto answer = ask(seen, {query});
    ASSERT_FALSE(answer.has_value()) << query;
    for (const Diagnostic& problem : answer.error())
      EXPECT_EQ(problem.message.find("card1"), std::string::npos) << query;
  }
  Question question{"show n"};
  question.where = {"cards.card = \"card1\""};
  EXPECT_EQ(test::codes(ask(seen, question).error()), "JR-222");
  question.where = {};
  question.drafts = {"measure n = count(distinct card for sessions)"};
  EXPECT_EQ(test::codes(ask(seen, question).error()), "JR-222");
  question.drafts = {"measure other = count(distinct card for sessions)"};
  EXPECT_EQ(test::codes(ask(seen, question).error()), "JR-222");
  EXPECT_EQ(test::codes(ask(seen, {"by_card"}).error()), "JR-222");
  // What measures rest on may be hidden: their values are not.
  EXPECT_EQ(test::answer(seen, "show holders"), test::answer(files.open(as("team")), "show holders"));
  EXPECT_TRUE(ask(seen, {"by_fee"}).has_value());
  EXPECT_TRUE(unfold(seen, "energy").has_value());
  EXPECT_EQ(test::codes(unfold(seen, "fees").error()), "JR-222");
  EXPECT_EQ(names_of(seen.model().queries()), (std::vector<std::string>{"by_region", "by_fee"}));
  // What shows whatever columns hold is not made for readers.
  EXPECT_EQ(test::codes(audit(seen).error()), "JR-223");
  EXPECT_EQ(test::codes(links(seen).error()), "JR-223");
  EXPECT_EQ(test::codes(draft(seen, "measure n = 1 + count(sessions)").error()), "JR-223");
  EXPECT_EQ(test::codes(refactor(seen, "drop sessions.before").error()), "JR-223");
  EXPECT_EQ(test::codes(sql(seen, {"by_region"}, SqlDialect::sqlite).error()), "JR-223");
  EXPECT_EQ(test::codes(load(files.path(), as("team")).error()), "JR-223");
  EXPECT_EQ(test::codes(ask_files(seen.model(), {"show n"}, as("team")).error()), "JR-223");
  EXPECT_EQ(test::codes(Dataset::open(files.folder.path("model.jrs"), as("team")).error()), "JR-223");
  EXPECT_EQ(test::codes(Dataset::open(files.path(), as("teem")).error()), "JR-223");
}

// What a reader exports are its rows, without what is hidden, without keys and links of that, and without views.
TEST(Readers, ExportWhatTheySee) {
  const test::SmallModel files =
      files_of(drawn(3), std::string(tables) +
                             "reader team { stations where region = \"Coast\"  hide sessions.card, cards.holder }\n");
  const Dataset seen = files.open(as("team"));
  ExportSettings settings;
  settings.form = FileForm::csv;
  settings.sql = SqlDialect::postgresql;
  const std::string folder = files.folder.path("out");
  const auto written = export_tables(seen, folder, settings);
  ASSERT_TRUE(written) << test::messages(written.error());
  for (const ExportedTable& table : written->tables) {
    const auto rows = ask(seen, {"show count(" + table.table + ") as n_rows"});
    ASSERT_TRUE(rows) << test::messages(rows.error());
    EXPECT_EQ(rows->rows[0].cells[0], Value::of(static_cast<int128>(table.rows))) << table.table;
  }
  const std::string csv = test::read_file(folder + "/sessions.csv");
  EXPECT_EQ(csv.substr(0, csv.find_first_of("\r\n")), "id,bay,day,kwh,share,before,price");
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    const std::string content = test::read_file(entry.path().string());
    EXPECT_EQ(content.find("holder"), std::string::npos) << entry.path();
    if (entry.path().filename() == "cards.csv") continue;
    EXPECT_EQ(content.find("card1"), std::string::npos) << entry.path();
  }
  const std::string schema = test::read_file(folder + "/schema.sql");
  EXPECT_EQ(schema.find("foreign key (\"card\")"), std::string::npos);
  EXPECT_NE(schema.find("foreign key (\"bay\")"), std::string::npos);
  EXPECT_EQ(schema.find("create view"), std::string::npos);
}

// A baseline of what a reader sees is its own; it is not compared with what another text would show.
TEST(Readers, HaveBaselinesOfTheirOwn) {
  const std::string reader = "reader team { stations where region = \"Coast\"  hide measure named }\n";
  const test::SmallModel files = files_of(drawn(3), tables + reader);
  const std::string folder = baseline_path(files.path(), "team");
  EXPECT_EQ(std::filesystem::path(folder).filename(), "model.team.baseline");
  ASSERT_TRUE(baseline(files.open(as("team")), folder, {}).has_value());
  const auto same = check(files.open(as("team")), folder, {});
  ASSERT_TRUE(same.has_value()) << test::messages(same.error());
  for (const CheckedQuery& query : same->queries) EXPECT_EQ(query.state, CheckState::same) << query.query;
  const auto everybody = check(files.open(), folder, {});
  ASSERT_TRUE(!everybody || std::any_of(everybody->queries.begin(), everybody->queries.end(),
                                        [](const CheckedQuery& query) { return query.state != CheckState::same; }));
}

TEST(Readers, AreDescribedAndUseWhatTheyName) {
  const std::string reader =
      "reader team \"A team\" {\n  stations where region = \"Coast\"\n  hide sessions.card, measure named\n}\n";
  const auto model = Model::parse("model.ridge", tables + reader);
  ASSERT_TRUE(model.has_value()) << test::messages(model.error());
  ASSERT_EQ(model->readers().size(), 1U);
  EXPECT_EQ(model->readers()[0].rows, std::vector<std::string>{"stations where region = \"Coast\""});
  EXPECT_EQ(model->readers()[0].hidden, (std::vector<std::string>{"sessions.card", "measure named"}));
  const auto described = describe(*model, "team");
  ASSERT_TRUE(described.has_value());
  EXPECT_EQ(described->at(0).definition, "stations where region = \"Coast\"; hide sessions.card, measure named");
  const auto region = describe(*model, "stations.region");
  ASSERT_TRUE(region.has_value());
  EXPECT_NE(std::find(region->at(0).used_by.begin(), region->at(0).used_by.end(), "reader team"),
            region->at(0).used_by.end());
}

TEST(Readers, WrongOnesStopTheModel) {
  ReadOptions options;
  options.disable_wrong = true;
  for (const auto& [reader, code] :
       std::vector<std::pair<std::string, std::string>>{{"reader a { nowhere where true }", "JR-201"},
                                                        {"reader a { stations where regoin = \"x\" }", "JR-202"},
                                                        {"reader a { stations where price }", "JR-305"},
                                                        {"reader a { regions where region = \"x\" }", "JR-221"},
                                                        {"reader `a b` { stations where true }", "JR-221"},
                                                        {"reader a { hide sessions.nothing }", "JR-202"},
                                                        {"reader a { hide measure nothing }", "JR-204"},
                                                        {"reader energy { hide sessions.card }", "JR-203"},
                                                        {"reader a { stations region = \"x\" }", "JR-110"},
                                                        {"reader a { stations where region = \"Coast\"", "JR-110"}}) {
    const auto model = Model::parse("model.ridge", tables + reader + "\n", options);
    ASSERT_FALSE(model.has_value()) << reader;
    EXPECT_EQ(test::codes(model.error()), code) << reader;
  }
  // Two ways lead to the station of a session: which of them tells is not said.
  const std::string two =
      "table more from csv \"m.csv\" { key m integer  bay integer  station text }\n"
      "link more.bay -> bays.bay\nlink more.station -> stations.station\n";
  const auto ambiguous = Model::parse("model.ridge", tables + two + "reader a { stations where true }\n", options);
  ASSERT_FALSE(ambiguous.has_value());
  EXPECT_EQ(test::codes(ambiguous.error()), "JR-221");
}

}  // namespace
}  // namespace juniper::readers_test
