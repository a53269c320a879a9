// The statements in PostgreSQL's words, run by a server, beside the engine's answers.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>

#include "juniper/sql.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/postgresql.h"

namespace juniper::postgresql_test {
namespace {

bool same_text(const std::string& ours, const std::string& theirs, Type type) {
  if (type.kind == TypeKind::boolean) return ours.substr(0, 1) == theirs;
  if (type.kind != TypeKind::real) return ours == theirs;
  const double a = std::stod(ours);
  const double b = std::stod(theirs);
  return std::abs(a - b) <= 1e-9 * std::max({std::abs(a), std::abs(b), 1.0});
}

// What differs between an answer and the server's; "" when nothing does.
std::string difference(const QueryResult& ours, const test::Postgresql::Answer& theirs) {
  if (!theirs.error.empty()) return theirs.error;
  if (ours.rows.size() != theirs.rows.size())
    return fmt::format("{} rows here, {} there", ours.rows.size(), theirs.rows.size());
  std::size_t keys = 0;
  while (keys < ours.columns.size() && ours.columns[keys].is_key) ++keys;
  const auto text = [&](const ResultRow& row, std::size_t c) {
    return row.cells[c].is_null() ? std::string("~null") : to_text(row.cells[c], ours.columns[c].type);
  };
  std::map<std::string, const std::vector<std::optional<std::string>>*> by_key;
  for (const auto& row : theirs.rows) {
    std::string key;
    for (std::size_t c = 0; c <= keys; ++c) {
      std::string cell = row[c].value_or("~null");
      if (c > 0 && ours.columns[c - 1].type.kind == TypeKind::boolean && row[c]) cell = cell == "t" ? "true" : "false";
      key += cell + "|";
    }
    by_key[key] = &row;
  }
  for (const ResultRow& row : ours.rows) {
    std::string key = std::to_string(row.level) + "|";
    for (std::size_t c = 0; c < keys; ++c) key += text(row, c) + "|";
    const auto at = by_key.find(key);
    if (at == by_key.end()) return "no row for " + key;
    for (std::size_t c = keys; c < ours.columns.size(); ++c) {
      const auto& cell = (*at->second)[c + 1];
      const bool same =
          row.cells[c].is_null() ? !cell.has_value() : cell && same_text(text(row, c), *cell, ours.columns[c].type);
      if (!same) return fmt::format("{}: {} here, {} there", ours.columns[c].name, text(row, c), cell.value_or("null"));
    }
  }
  return "";
}

class PostgresqlSql : public testing::Test {
 protected:
  static void SetUpTestSuite() { server_ = new test::Postgresql; }
  static void TearDownTestSuite() { delete std::exchange(server_, nullptr); }
  void SetUp() override { ASSERT_EQ(server_->problem(), ""); }
  static test::Postgresql* server_;
};
test::Postgresql* PostgresqlSql::server_ = nullptr;

TEST_F(PostgresqlSql, QueriesOfTheDemoAgree) {
  const test::TempFolder folder;
  std::filesystem::copy(std::string(JUNIPER_SOURCE_DIR) + "/demo/small", folder.path("d"),
                        std::filesystem::copy_options::recursive);
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset);
  server_->load(*dataset);
  ASSERT_EQ(server_->problem(), "");
  std::vector<std::string> statements;
  std::vector<QueryResult> ours;
  for (const std::string query :
       {"plans", "sizes", "equipment", "by days.year show revenue, (revenue during to_date(year)) as so_far"}) {
    statements.push_back(*sql(*dataset, {query}, SqlDialect::postgresql));
    ours.push_back(*ask(*dataset, {query}));
  }
  const auto theirs = server_->run(statements);
  for (std::size_t i = 0; i < ours.size(); ++i) EXPECT_EQ(difference(ours[i], theirs[i]), "") << statements[i];
}

// A double holds no microseconds of a day in the year 9999.
TEST_F(PostgresqlSql, TheEndsOfDatesAndTimesAgree) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key k integer  d date  m datetime  h time }\n",
      {{"t.csv",
        "k,d,m,h\n1,9999-12-31,9999-12-30 23:59:59.999999,23:59:59.999999\n"
        "2,0001-01-01,0001-01-01 00:00:00.000001,00:00:00.000001\n"
        "3,1969-12-31,1969-12-31 23:59:59.999999,12:00\n4,2024-02-29,9999-12-31 00:00:00,\n"}});
  const Dataset dataset = model.open();
  server_->load(dataset);
  ASSERT_EQ(server_->problem(), "");
  const std::string query =
      "by t.k show max(d for t) as d, max(m for t) as m, max(h for t) as h, max(end_of(d, week) for t) as e, "
      "max(date(m) for t) as md, max(time(m) for t) as mt";
  const auto theirs = server_->run({*sql(dataset, {query}, SqlDialect::postgresql)});
  EXPECT_EQ(difference(*ask(dataset, {query}), theirs[0]), "");
}

// What the published list leaves outside: reals of extreme size are errors of the server.
bool is_outside(const std::string& error) {
  return error.find("out of range") != std::string::npos || error.find("statement timeout") != std::string::npos ||
         error.find("stack depth") != std::string::npos;
}

// Asks random queries of models that `draw` gives.
void ask_all(test::Postgresql& server, test::RandomModel (*draw)(test::Random&, std::size_t), std::uint64_t seed,
             std::size_t queries) {
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  std::size_t compared = 0;
  std::size_t outside = 0;
  while (compared < queries) {
    test::RandomModel model = draw(random, 12);
    // Of numbers at the ends of their types and of far reals, the last digits are no measure.
    if (model.is_extreme || model.has_far_reals) continue;
    test::add_definitions(random, model);
    const test::SmallModel files(model.text(), model.files());
    const auto dataset = Dataset::open(files.path());
    if (!dataset) continue;
    server.load(*dataset);
    ASSERT_EQ(server.problem(), "");
    std::vector<std::string> statements;
    std::vector<std::string> texts;
    std::vector<QueryResult> ours;
    for (int q = 0; q < 40; ++q) {
      test::RandomQuery query = test::random_query(random, model);
      if (test::chance(random, 80)) query = test::with_meaning(dataset->model(), query);
      query.limit.clear();
      const std::string text = query.text();
      auto answer = ask(*dataset, {text});
      if (!answer) continue;
      statements.push_back(*sql(*dataset, {text}, SqlDialect::postgresql));
      texts.push_back(text);
      ours.push_back(std::move(*answer));
    }
    const auto theirs = server.run(statements);
    for (std::size_t i = 0; i < ours.size(); ++i) {
      ++compared;
      if (is_outside(theirs[i].error)) {
        ++outside;
        continue;
      }
      ASSERT_EQ(difference(ours[i], theirs[i]), "") << "seed " << seed << "\n"
                                                    << texts[i] << "\n"
                                                    << statements[i] << model.text();
    }
  }
  fmt::print("{} of {} queries are outside of the comparison\n", outside, compared);
  EXPECT_LT(outside * 10, compared);
}

TEST_F(PostgresqlSql, RandomQueriesAgree) {
  ask_all(*server_, test::random_model, test::test_seed(515), test::test_count(120));
}

TEST_F(PostgresqlSql, QueriesOfDrawnModelsAgree) {
  ask_all(*server_, test::drawn_model, test::test_seed(516), test::test_count(120));
}

}  // namespace
}  // namespace juniper::postgresql_test
