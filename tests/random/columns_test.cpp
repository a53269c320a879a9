// Random calculated columns, computed in three ways: by the engine when a model is loaded, by the naive evaluator row
// by row, and as SQL by SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>

#include "model/access.h"
#include "random/random_query.h"
#include "store/of_dataset.h"
#include "store/store.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::columns_test {
namespace {

TEST(RandomColumns, TheThreeWaysAgree) {
  const std::uint64_t seed = test::test_seed(1123);
  const std::size_t columns = test::test_count(150);
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
                  code == "JR-411" || code == "JR-416" || code == "JR-701" || code == "JR-704")
          << column.text << "\n"
          << test::messages(dataset.error());
      continue;
    }
    const auto& tables = model::checked(dataset->model()).tables;
    const language::ColumnId id{static_cast<language::TableIndex>(table), *tables[table].find("computed")};
    ASSERT_EQ(test::column_difference(*dataset, id), "") << "seed " << seed << ", column " << checked << "\n"
                                                         << column.text << "\n"
                                                         << model.text();
    const store::Column& stored = store::store_of(*dataset).tables[id.table].columns[id.column].data;
    values += stored.rows - stored.nulls;
    ++checked;
  }
  fmt::print("{} values\n", values);
  EXPECT_GT(values, columns);
}

}  // namespace
}  // namespace juniper::columns_test
