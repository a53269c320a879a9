// Random calculated columns, computed in three ways: by the engine when a model is loaded, by the naive evaluator row
// by row, and as SQL by SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>

#include "engine/ask.h"
#include "engine/naive.h"
#include "random/random_query.h"
#include "sql/sqlite.h"
#include "sql/translate.h"
#include "store/store.h"
#include "support/support.h"

namespace juniper {
namespace {

bool same_value(const Value& a, const Value& b) {
  if (a.kind() != b.kind()) return false;
  if (a.kind() != Value::Kind::real) return a == b;
  return std::abs(a.real() - b.real()) <= 1e-9 * std::max({std::abs(a.real()), std::abs(b.real()), 100.0});
}

// What differs between a stored column and the other ways; "" when nothing does.
std::string difference(const Dataset& dataset, language::ColumnId id) {
  const engine::Source source = engine::source_of(dataset);
  const language::NodePtr& expression = source.model.column(id).expression;
  const store::Column& stored = source.column(id);
  const auto naive = engine::evaluate_rows_naively(source, id.table, expression);
  if (!naive) return test::messages(naive.error());
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    if (same_value(stored.at(row), (*naive)[row])) continue;
    return fmt::format("row {}: stored {}, naive {}", row, to_text(stored.at(row), stored.type),
                       to_text((*naive)[row], stored.type));
  }
  auto database = sql_engine::Sqlite::open();
  if (!database) return test::messages(database.error());
  for (language::TableIndex t = 0; t < source.model.tables.size(); ++t) {
    if (auto added = database->add_table(source, t); !added) return test::messages(added.error());
  }
  const std::string statement = sql_engine::translate_column(source.model, id.table, expression, source.setting.today);
  const auto rows = database->run(statement, {Type{TypeKind::integer, 0}, stored.type});
  if (!rows) {
    const std::string said = test::messages(rows.error());
    return said.find("parser stack overflow") != std::string::npos ? "" : said;
  }
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    if (same_value(stored.at(row), (*rows)[row][1])) continue;
    return fmt::format("row {}: stored {}, SQLite {}\n{}", row, to_text(stored.at(row), stored.type),
                       to_text((*rows)[row][1], stored.type), statement);
  }
  return "";
}

TEST(RandomColumns, TheThreeWaysAgree) {
  const std::uint64_t seed = test::test_seed(1123);
  const char* const wanted = std::getenv("JUNIPER_QUERIES");
  const std::size_t columns = wanted != nullptr ? std::strtoull(wanted, nullptr, 10) : 150;
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  std::size_t checked = 0;
  std::size_t values = 0;
  while (checked < columns) {
    test::RandomModel model = test::random_model(random, 16);
    const std::size_t table = test::pick(random, 6);
    const test::RandomColumn column = test::random_column(random, model, table, 3);
    model.calculated[table] = fmt::format("  computed = ({})\n", column.text);
    const test::SmallModel files(model.text(), model.files());
    const auto dataset = Dataset::open(files.path());
    if (!dataset) {
      // What has no meaning, or does not fit; nothing else may be wrong with it.
      const std::string code = dataset.error()[0].code;
      ASSERT_TRUE(code == "JR-207" || code == "JR-208" || code == "JR-307" || code == "JR-404" || code == "JR-409" ||
                  code == "JR-411" || code == "JR-701" || code == "JR-704")
          << column.text << "\n"
          << test::messages(dataset.error());
      continue;
    }
    const auto& tables = dataset->model().checked().tables;
    const language::ColumnId id{static_cast<language::TableIndex>(table), *tables[table].find("computed")};
    ASSERT_EQ(difference(*dataset, id), "") << "seed " << seed << ", column " << checked << "\n"
                                            << column.text << "\n"
                                            << model.text();
    const store::Column& stored = dataset->store().tables[id.table].columns[id.column].data;
    values += stored.rows - stored.nulls;
    ++checked;
  }
  fmt::print("{} values\n", values);
  EXPECT_GT(values, columns);
}

}  // namespace
}  // namespace juniper
