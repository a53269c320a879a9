// Files as anybody may write them, read by the loader and by the evaluator that needs none: forms of numbers, dates and
// quotes at the edge of what is allowed, line ends, headers in any order, columns that nobody reads.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <array>

#include "random/random_model.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::files_test {
namespace {

struct Fields {
  const char* column;
  const char* type;
  std::vector<const char*> texts;  // the first few are right
};

const std::vector<Fields>& all_fields() {
  static const std::vector<Fields> all{
      {"a",
       "integer",
       {"5", "-5", "05", "+5", " 5", "5 ", "-0", "9223372036854775807", "-9223372036854775808", "9223372036854775808",
        "1e3", "5.", "5.0", "", "\"\"", "\"7\"", "12345678901234567", "1_000"}},
      {"b",
       "decimal(2)",
       {"1.5", "1.50", "-1.25", ".5", "5.", "1.500", "1.505", "12345678.12", "-12345678.12", "123456789012345.67",
        "92233720368547758.07", "92233720368547758.08", "-0.01", "", "\"3.25\"", "00.10", "\"1,5\"", "1234567.1"}},
      {"c", "decimal(18)", {"1", "0.1", "-9.223372036854775808", "9.3", "", "1.0000000000000000000"}},
      {"d",
       "real",
       {"1", "-0", "1.5e-3", "1e308", "1e400", "inf", "nan", "0x10", ".5", "5.", "+1", "1e", "1d", "4.9e-324"}},
      {"e",
       "text",
       {"x", "\"a\"\"b\"", "\"a,b\"", "\"\"", "", "\" x \"", " x ", "\"line\nbreak\"", "\"cr\r\nlf\"", "é", "x\"y",
        "null", "\"x\"y"}},
      {"f", "boolean", {"true", "false", "TRUE", "1", "0", "yes", "", "\"true\"", "t"}},
      {"g",
       "date",
       {"2024-02-29", "0001-01-01", "9999-12-31", "2023-02-29", "10000-01-01", "2024-1-1", "2024-12-32", "",
        "\"2024-05-05\"", "2024/05/05", "0000-01-01", "2024-06-31", "2024-12-31"}},
      {"h",
       "datetime",
       {"2024-02-29 10:00:00", "2024-02-29T10:00:00", "2024-12-31 23:59:59.1", "2024-02-29 10:00", "",
        "2024-12-31 24:00:00", "1969-12-31 23:59:59.5", "2024-02-29", "2024-01-01 00:00:00.1234567",
        "2024-01-01T00:00:00Z", "2024-02-30 00:00:00", "2024-01-01 7:00:00"}},
      {"i", "time", {"10:00:00", "23:59:59.999999", "00:00:00", "10:00", "24:00:00", "", "1:2:3", "10:60:00"}}};
  return all;
}

TEST(Files, AreReadAlikeByTwoReaders) {
  const std::uint64_t seed = test::test_seed(4180);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  const std::size_t wanted = test::test_count(150);
  std::size_t answered = 0;
  std::size_t refused = 0;
  for (std::size_t round = 0; round < wanted; ++round) {
    std::vector<Fields> columns = all_fields();
    std::shuffle(columns.begin(), columns.end(), random);
    columns.resize(1 + test::pick(random, 4));
    std::string text = "table t from csv \"t*.csv\" {\n";
    std::vector<std::string> queries{"show n = count(t)"};
    for (const Fields& column : columns) {
      text += fmt::format("  {} {}\n", column.column, column.type);
      queries.push_back(fmt::format("by t.{} show n = count(t) keep empty", column.column));
    }
    std::map<std::string, std::string> files;
    const bool is_right = test::chance(random, 70);
    for (std::size_t file = 0; file <= test::pick(random, 2); ++file) {
      std::vector<const Fields*> order;
      for (const Fields& column : columns) order.push_back(&column);
      if (test::chance(random, 30)) order.push_back(nullptr);  // a column that nobody reads
      std::shuffle(order.begin(), order.end(), random);
      static constexpr std::array ends{"\n", "\r\n", "\n\n"};
      const std::string end = ends[test::pick(random, ends.size())];
      std::string& csv = files[fmt::format("t{}.csv", file)];
      const auto record = [&](const auto& field) {
        for (std::size_t c = 0; c < order.size(); ++c) csv += (c == 0 ? "" : ",") + field(order[c]);
        csv += end;
      };
      record([](const Fields* column) { return std::string(column ? column->column : "other"); });
      for (std::size_t row = test::pick(random, 8); row > 0; --row) {
        record([&](const Fields* column) {
          if (!column) return std::string("1");
          return std::string(column->texts[test::pick(random, is_right ? 3 : column->texts.size())]);
        });
      }
      if (test::chance(random, 30)) csv.resize(csv.size() - end.size());
      if (test::chance(random, 15)) csv.insert(0, "\xEF\xBB\xBF");
    }
    const test::SmallModel model(text + "}\n", files);
    const auto dataset = Dataset::open(model.path());
    const auto read = Model::read(model.path());
    ASSERT_TRUE(read);
    for (const std::string& query : queries) {
      const auto loaded = dataset ? ask(*dataset, {query}) : Result<QueryResult>(tl::unexpected(dataset.error()));
      const auto from_files = ask_files(*read, {query});
      std::string all = text;
      for (const auto& [name, csv] : files) all += "--- " + name + "\n" + csv;
      // Of several errors, each tells the first that it meets.
      ASSERT_EQ(loaded.has_value(), from_files.has_value())
          << test::messages(loaded ? from_files.error() : loaded.error()) << query << "\n"
          << all;
      ++(loaded ? answered : refused);
      if (!loaded) break;
      ASSERT_EQ(test::answer_difference(loaded, from_files), "") << query << "\n" << all;
    }
  }
  fmt::print("{} answers, {} refused\n", answered, refused);
  EXPECT_GT(answered, wanted);
  EXPECT_GT(refused, wanted / 10);
}

}  // namespace
}  // namespace juniper::files_test
