// Rows in a smaller order than that of their files: fewer bytes, the same answers, and the way back.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "juniper/ask.h"
#include "juniper/sql.h"
#include "store/of_dataset.h"
#include "store/store.h"
#include "support/support.h"

namespace juniper::row_order_test {
namespace {

constexpr std::size_t rows_of_file = 6'000;

// Sessions of one file in no order but that of their numbers.
std::string sessions_file(std::uint64_t seed, std::size_t first_id, std::size_t rows = rows_of_file) {
  std::mt19937_64 random(seed);
  std::string text = "id,channel,bay_id,kwh,note,site,street\n";
  for (std::size_t i = 0; i < rows; ++i) {
    const auto bay = random() % 40;
    text += fmt::format("{},{},{},{}.{},{},site {},street {}\n", first_id + i,
                        std::array{"app", "card", "phone"}[random() % 3], bay, bay % 3, random() % 10,
                        random() % 5 == 0 ? "" : "n", bay, bay / 2);
  }
  return text;
}

// `attributes` stand before the column `id`.
std::string model_text(const std::string& attributes) {
  return "table sessions from csv \"s-*.csv\" { " + attributes +
         R"(channel text  bay_id integer  kwh decimal(1)  note text  site text  street text
  first_kwh = first(s.kwh by s.channel for s in sessions where s.bay_id = this.bay_id) }
table bays from csv "bays.csv" { key bay_id integer  lane text }
link sessions.bay_id -> bays.bay_id
measure kwh = sum(kwh for sessions)
measure tied = last(kwh by channel for sessions)
measure notes = list(note, "" for sessions where bay_id = 3 and channel = "app")
)";
}

test::SmallModel network(const std::string& attributes) {
  std::string bays = "bay_id,lane\n";
  for (int bay = 0; bay < 40; ++bay) bays += fmt::format("{},{}\n", bay, bay % 7);
  return {model_text(attributes),
          {{"s-1.csv", sessions_file(1, 1)}, {"s-2.csv", sessions_file(2, 1 + rows_of_file)}, {"bays.csv", bays}}};
}

const std::vector<std::string> queries{"by bays.lane show kwh, tied", "by sessions.channel, bays.lane show kwh, tied",
                                       "show kwh, notes, sum(first_kwh for sessions) as f",
                                       "by sessions.note show count(sessions) as n, tied"};

std::string answers(const Dataset& dataset) {
  std::string all;
  for (const std::string& query : queries) all += test::answer(dataset, query) + "\n\n";
  return all;
}

LoadSettings settings(RowOrder order, Reload reload = Reload::when_stale) {
  return {reload, "", order};
}

std::uint64_t size_of(const test::SmallModel& model) {
  return std::filesystem::file_size(model.folder.path("model.jrs"));
}

TEST(RowOrder, SavesBytesAndChangesNoAnswer) {
  for (const std::string attributes : {"key id integer  ", "id integer  "}) {
    SCOPED_TRACE(attributes);
    const test::SmallModel model = network(attributes);
    const Dataset plain = model.open();
    const std::string expected = answers(plain);
    const std::uint64_t before = size_of(model);
    const auto loaded = load(model.path(), {}, settings(RowOrder::smallest));
    ASSERT_TRUE(loaded) << test::messages(loaded.error());
    ASSERT_EQ(loaded->orders.size(), 2U);
    EXPECT_NE(loaded->orders[0].columns, "");
    EXPECT_EQ(loaded->orders[0].file_order, "id");
    EXPECT_GT(loaded->orders[0].saved_bytes, 0U);
    EXPECT_LT(size_of(model), before);
    EXPECT_EQ(loaded->tables[0].files_read, 0U) << "the rows were there";
    const Dataset sorted = model.open();
    EXPECT_FALSE(load(model.path())->loaded) << "it is fresh";
    EXPECT_EQ(answers(sorted), expected);
    for (const std::string& query : queries) {
      if (test::is_sanitized) break;  // these two look at each row again for each row
      Question naive{query, {}};
      naive.plan = Plan::naive;
      EXPECT_EQ(test::rows_of(*ask(sorted, naive)), test::answer(plain, query)) << query;
      if (query == queries[1] || query == queries[2]) continue;
      const auto agreement = against_sqlite(sorted, {query, {}});
      ASSERT_TRUE(agreement) << test::messages(agreement.error());
      EXPECT_TRUE(agreement->same()) << query;
    }
    // Back again: the very columns of the files' order.
    ASSERT_TRUE(load(model.path(), {}, settings(RowOrder::as_in_files)));
    const Dataset back = model.open();
    ASSERT_EQ(size_of(model), before);
    for (std::size_t c = 0; c < 7; ++c) {
      EXPECT_EQ(store::store_of(back).tables[0].columns[c].data.codes.decoded(),
                store::store_of(plain).tables[0].columns[c].data.codes.decoded());
    }
    EXPECT_EQ(answers(back), expected);
  }
}

TEST(RowOrder, StaysWhenFilesAreAddedAndOnlyTheseAreRead) {
  const test::SmallModel model = network("id integer  ");
  ASSERT_TRUE(load(model.path(), {}, settings(RowOrder::smallest)));
  model.folder.write("s-3.csv", sessions_file(3, 1 + 2 * rows_of_file));
  const auto loaded = load(model.path());
  ASSERT_TRUE(loaded) << test::messages(loaded.error());
  EXPECT_EQ(loaded->tables[0].files_read, 1U);
  EXPECT_EQ(loaded->orders[0].table, "sessions");
  EXPECT_NE(loaded->orders[0].columns, "");
  const std::string sorted = answers(model.open());
  EXPECT_NE(load(model.path(), {}, settings(RowOrder::as_before, Reload::always))->orders[0].columns, "");
  ASSERT_TRUE(load(model.path(), {}, settings(RowOrder::as_in_files, Reload::always)));
  EXPECT_EQ(sorted, answers(model.open()));
}

// Where no column tells the order of the files, a table with a key is sorted all the same, and its files are read anew
// when one is added; a table without one stays as it is.
TEST(RowOrder, IsLeftWhereNothingWouldTellIt) {
  std::string shuffled = sessions_file(1, 1);
  const std::size_t header = shuffled.find('\n') + 1;
  const std::size_t line = shuffled.find('\n', header) + 1;
  shuffled += shuffled.substr(header, line - header);  // the first row stands last
  shuffled.erase(header, line - header);
  for (const bool key : {true, false}) {
    const test::SmallModel model = network(key ? "key id integer  " : "id integer  ");
    model.folder.write("s-1.csv", shuffled);
    const std::string expected = answers(model.open());
    const auto loaded = load(model.path(), {}, settings(RowOrder::smallest));
    ASSERT_TRUE(loaded) << test::messages(loaded.error());
    EXPECT_EQ(loaded->orders[0].columns.empty(), !key);
    EXPECT_EQ(loaded->orders[0].file_order, "");
    EXPECT_EQ(answers(model.open()), expected);
    model.folder.write("s-3.csv", sessions_file(3, 1 + 2 * rows_of_file));
    EXPECT_EQ(load(model.path())->tables[0].files_read, key ? 3U : 1U);
    const std::string sorted = answers(model.open());
    ASSERT_TRUE(load(model.path(), {}, settings(RowOrder::as_in_files)));
    EXPECT_EQ(answers(model.open()), sorted);
  }
}

TEST(RowOrder, ErrorsNameTheLineOfTheFile) {
  const test::SmallModel model = network("key id integer  ");
  model.folder.write("model.ridge", model_text("key id integer  big = case when id = 5432 then id else 1 end * "
                                               "9000000000000000000  "));
  const Diagnostics expected = model.errors();
  ASSERT_EQ(test::codes(expected), "JR-704");
  EXPECT_NE(expected[0].message.find("s-1.csv:5433"), std::string::npos) << expected[0].message;
  EXPECT_EQ(test::messages(load(model.path(), {}, settings(RowOrder::smallest)).error()), test::messages(expected));
}

}  // namespace
}  // namespace juniper::row_order_test
