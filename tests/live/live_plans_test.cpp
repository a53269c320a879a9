// Live tables: drawn models and queries, answered by the store, and with tables that stay on SQLite, PostgreSQL and
// ClickHouse.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <set>

#include "juniper/explain.h"
#include "juniper/export.h"
#include "juniper/links.h"
#include "juniper/weigh.h"
#include "model/access.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/clickhouse.h"
#include "support/deadline.h"
#include "support/postgresql.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::live_plans_test {
namespace {

// A place on which tables are live, and how a dataset's tables come there.
struct Engine {
  std::string kind;
  std::function<std::string(const Dataset&)> load;  // gives how the language reaches it; "" where it can't hold them
};

// Some tables, with all from which links lead to them: what is loaded can't lead to what is live.
std::set<std::string> drawn_tables(test::Random& random, const Dataset& dataset) {
  const language::CheckedModel& model = model::checked(dataset.model());
  std::set<language::TableIndex> live;
  for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
    const bool is_calendar = model.calendar && model.calendar->day.table == t;
    if (model.tables[t].rows || is_calendar) continue;
    const auto& columns = model.tables[t].columns;
    const bool has_key = std::any_of(columns.begin(), columns.end(), [](const language::Column& c) { return c.key; });
    if (test::chance(random, has_key ? 50 : 8)) live.insert(t);
  }
  for (bool again = true; again;) {
    again = false;
    for (const language::Link& link : model.links) {
      if (live.contains(link.to.table) && !model.tables[link.from.table].rows)
        again = live.insert(link.from.table).second || again;
    }
  }
  std::set<std::string> names;
  for (const language::TableIndex t : live) names.insert(model.tables[t].name);
  return names;
}

// The text with these tables live at a place, where they stand with all their columns under the model's names.
std::string live_text(const test::RandomModel& drawn, const Dataset& dataset, const std::set<std::string>& live,
                      const std::string& place) {
  const language::CheckedModel& model = model::checked(dataset.model());
  std::string text;
  bool is_left_out = false;
  for (const std::string& line : test::lines_of(drawn.text())) {
    const std::string name = line.starts_with("table ") ? line.substr(6, line.find(' ', 6) - 6) : "";
    if (!name.empty()) is_left_out = live.contains(name);
    if (!name.empty() && is_left_out) {
      const language::Table& table = model.tables[*model.find_table(name)];
      text += fmt::format("table {0} live on {1} table \"{0}\" {{\n", name, place);
      for (const language::Column& column : table.columns) {
        // ClickHouse has no times of day.
        const bool is_part = column.type.kind == TypeKind::time && place.starts_with("clickhouse");
        text += fmt::format("  {}{} {}{}{}\n", column.key ? "key " : "", column.name, to_string(column.type),
                            is_part ? fmt::format(" from time(\"{}\")", column.name) : "",
                            column.sorted_by ? " sorted by " + table.columns[*column.sorted_by].name : "");
      }
      for (const language::TableKey& key : table.keys) {
        std::string columns;
        for (const std::uint32_t c : key.columns) columns += (columns.empty() ? "" : ", ") + table.columns[c].name;
        text += fmt::format("  key ({})\n", columns);
      }
    }
    if (!is_left_out || line == "}") text += line + "\n";
    if (line == "}") is_left_out = false;
  }
  return text;
}

// Whether the order of rows that no key tells apart may decide: it is that of the files in a store.
bool rests_on_order(const Dataset& dataset, const std::set<std::string>& live, const std::string& text) {
  const language::CheckedModel& model = model::checked(dataset.model());
  const bool all_have_keys = std::all_of(live.begin(), live.end(), [&](const std::string& name) {
    const auto& columns = model.tables[*model.find_table(name)].columns;
    return std::any_of(columns.begin(), columns.end(), [](const language::Column& column) { return column.key; });
  });
  if (all_have_keys) return false;
  const auto names = [&](std::string_view word) { return text.find(word) != std::string::npos; };
  return names("first(") || names("last(") || names("list(") || names("top ");
}

// What an engine says that it can't do exactly, and what it can't compute, is no answer, and none is wrong.
bool is_refused(const Diagnostics& errors) {
  static const std::set<std::string> codes{"JR-713", "JR-521", "JR-701"};
  const bool is_away = errors[0].message.find("server does not answer") != std::string::npos;
  return codes.contains(errors[0].code) && !is_away;
}

// What the figures of live tables say otherwise than those of the same tables in a store.
std::string figures_difference(const Dataset& loaded, const Dataset& live) {
  const auto weighed = weigh(live);
  if (!weighed) return is_refused(weighed.error()) ? "" : test::messages(weighed.error());
  const Weighing of_store = weigh(loaded).value();
  for (const LiveWeight& table : weighed->live) {
    for (const ColumnWeight& got : table.columns) {
      const auto want = std::find_if(of_store.columns.begin(), of_store.columns.end(), [&](const ColumnWeight& c) {
        return c.table == got.table && c.column == got.column;
      });
      if (want == of_store.columns.end()) return "no column " + got.column;
      const bool same = got.rows == want->rows && got.distinct == want->distinct && got.nulls == want->nulls &&
                        compare(got.min, want->min) == 0 && compare(got.max, want->max) == 0;
      if (!same) {
        return fmt::format("{}.{}: {} rows, {} distinct, {} nulls, {} to {}, and in the store {}, {}, {}, {} to {}",
                           got.table, got.column, got.rows, got.distinct, got.nulls, to_text(got.min, got.type),
                           to_text(got.max, got.type), want->rows, want->distinct, want->nulls,
                           to_text(want->min, got.type), to_text(want->max, got.type));
      }
    }
  }
  const auto got = links(live);
  if (!got) return is_refused(got.error()) ? "" : test::messages(got.error());
  const auto want = links(loaded);
  if (!want) return test::messages(want.error());
  for (std::size_t i = 0; i < got->links.size(); ++i) {
    const LinkUse& a = got->links[i];
    const LinkUse& b = want->links[i];
    if (!a.broken.empty() || !b.broken.empty()) continue;
    const auto figures = [](const LinkUse& use) {
      return fmt::format("{} {} rows, {} keys, {} null; {} rows, {} used; {} orphans in {} rows", use.link,
                         use.many_rows, use.many_keys, use.null_rows, use.one_rows, use.used_rows, use.orphan_keys,
                         use.orphan_rows);
    };
    if (figures(a) != figures(b)) return figures(a) + ", and in the store " + figures(b);
  }
  return "";
}

struct Counts {
  std::size_t asked = 0;
  std::size_t compared = 0;
  std::size_t statements = 0;
  std::map<std::string, std::size_t> refused;
};

// Asks random queries of drawn models, over the store and over live tables.
Counts ask_all(const Engine& engine, bool is_drawn, std::uint64_t seed, std::size_t queries) {
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  Counts counts;
  while (counts.asked < queries) {
    test::RandomModel model =
        is_drawn ? test::drawn_model(random, 24) : test::random_model(random, test::chance(random, 10) ? 200 : 24);
    if (model.is_extreme || model.has_far_reals) continue;
    test::add_definitions(random, model);
    const test::SmallModel files(model.text(), model.files());
    const auto loaded = Dataset::open(files.path());
    if (!loaded) continue;
    const std::string place = engine.load(*loaded);
    if (place.empty()) continue;
    const std::set<std::string> tables = drawn_tables(random, *loaded);
    const std::string text = live_text(model, *loaded, tables, place);
    const test::SmallModel live_files(text, model.files());
    const auto live = Dataset::open(live_files.path());
    if (!live) {
      // What is computed by the load may look at live rows.
      EXPECT_EQ(live.error()[0].code, "JR-224") << test::messages(live.error()) << text;
      continue;
    }
    if (const std::string differs = figures_difference(*loaded, *live); !differs.empty()) {
      std::string all = text;
      for (const auto& [name, csv] : model.files()) all += "--- " + name + "\n" + csv;
      ADD_FAILURE() << differs << "\n" << all;
      return counts;
    }
    constexpr std::size_t of_each_model = 12;
    for (std::size_t q = 0; q < of_each_model; ++q) {
      test::RandomQuery query = test::random_query(random, model);
      if (test::chance(random, 90)) query = test::with_meaning(loaded->model(), query);
      ++counts.asked;
      if (rests_on_order(*loaded, tables, query.text() + text)) continue;
      const auto want = ask(*loaded, {query.text()});
      if (!want) continue;
      const auto got = ask(*live, {query.text()});
      if (!got && is_refused(got.error())) {
        const std::string& why = got.error()[0].message;
        ++counts.refused[why.substr(0, 200)];
        continue;
      }
      const std::string differs = test::answer_difference(want, got);
      if (!differs.empty()) {
        const auto explained = explain(*live, {query.text()});
        std::string asked;
        if (explained) {
          for (const AskedStatement& statement : explained->statements) asked += statement.text + "\n";
        }
        std::string all = text;
        for (const auto& [name, csv] : model.files()) all += "--- " + name + "\n" + csv;
        ADD_FAILURE() << "seed " << seed << "\n" << query.text() << "\n" << differs << "\n" << asked << "\n" << all;
        return counts;
      }
      ++counts.compared;
      counts.statements += got->statements;
    }
  }
  fmt::print("{} of {} queries compared, by {} statements\n", counts.compared, counts.asked, counts.statements);
  for (const auto& [why, times] : counts.refused) fmt::print("{:5} {}\n", times, why);
  return counts;
}

class OnSqlite {
 public:
  Engine engine() {
    return {"sqlite", [this](const Dataset& dataset) {
              const std::string folder = folder_.path(fmt::format("db{}", ++databases_));
              EXPECT_TRUE(export_tables(dataset, folder, {FileForm::sqlite, {}, {}}));
              for (const auto& file : std::filesystem::directory_iterator(folder)) {
                if (file.path().extension() == ".sqlite") return "sqlite \"" + file.path().string() + "\"";
              }
              return std::string();
            }};
  }

 private:
  test::TempFolder folder_;
  int databases_ = 0;
};

TEST(LivePlans, SqliteAgrees) {
  OnSqlite place;
  const std::size_t queries = test::test_count(300);
  const Counts counts = ask_all(place.engine(), false, test::test_seed(20261201), queries);
  EXPECT_GT(counts.compared * 8, queries);
}

TEST(LivePlans, SqliteAgreesOverDrawnModels) {
  OnSqlite place;
  const std::size_t queries = test::test_count(300);
  const Counts counts = ask_all(place.engine(), true, test::test_seed(20261202), queries);
  EXPECT_GT(counts.compared * 8, queries);
}

TEST(LivePlans, PostgresqlAgrees) {
  test::Postgresql server;
  ASSERT_EQ(server.problem(), "");
  const Engine engine{"postgresql", [&](const Dataset& dataset) {
                        server.load(dataset);
                        return "postgresql \"" + server.place() + "\"";
                      }};
  const std::size_t queries = test::test_count(250);
  for (const bool is_drawn : {false, true}) {
    const Counts counts = ask_all(engine, is_drawn, test::test_seed(is_drawn ? 20261204 : 20261203), queries / 2);
    EXPECT_GT(counts.compared * 8, queries / 2);
  }
}

TEST(LivePlans, ClickhouseAgrees) {
  test::Clickhouse server;
  ASSERT_EQ(server.problem(), "");
  const Engine engine{"clickhouse", [&](const Dataset& dataset) {
                        if (!server.load(dataset)) return std::string();
                        return "clickhouse \"" + server.place() + "\"";
                      }};
  const std::size_t queries = test::test_count(250);
  for (const bool is_drawn : {false, true}) {
    const Counts counts = ask_all(engine, is_drawn, test::test_seed(is_drawn ? 20261206 : 20261205), queries / 2);
    EXPECT_GT(counts.compared * 8, queries / 2);
  }
}

// Every table is spread over two servers.
TEST(LivePlans, ClickhouseOverTwoShardsAgrees) {
  test::Clickhouse other;
  ASSERT_EQ(other.problem(), "");
  test::Clickhouse server({other.native_port()});
  ASSERT_EQ(server.problem(), "");
  const Engine engine{"clickhouse", [&](const Dataset& dataset) {
                        if (!server.spread(dataset, other)) return std::string();
                        return "clickhouse \"" + server.place() + "\"";
                      }};
  const std::size_t queries = test::test_count(150);
  const Counts counts = ask_all(engine, false, test::test_seed(20261207), queries);
  EXPECT_GT(counts.compared * 8, queries);
}

}  // namespace
}  // namespace juniper::live_plans_test
