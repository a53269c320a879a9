// Which rows of its files a table holds (`reached from`), and in which order (`sorted by`).
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "store/of_dataset.h"
#include "store/store.h"
#include "support/support.h"

namespace juniper::table_rows_test {
namespace {

std::string text_with(const std::string& bays, const std::string& stations = "", const std::string& sessions = "") {
  return "table sessions from csv \"s-*.csv\"" + sessions +
         " { key id integer  bay_id integer  kwh integer  first_bay integer }\n"
         "table bays from csv \"b.csv\"" +
         bays +
         " { key bay_id integer  station_id integer  lane text  half = 10 div lane_no  lane_no integer }\n"
         "table stations from csv \"st.csv\"" +
         stations +
         " { key station_id integer  name text }\n"
         "link sessions.bay_id -> bays.bay_id\nlink sessions.first_bay -> bays.bay_id as first\n"
         "link bays.station_id -> stations.station_id\nmeasure kwh = sum(kwh for sessions)\n";
}

std::map<std::string, std::string> files() {
  return {{"s-1.csv", "id,bay_id,kwh,first_bay\n1,2,10,4\n2,2,20,\n3,9,30,\n4,,40,2\n"},
          {"b.csv", "bay_id,station_id,lane,lane_no\n1,7,A,1\n2,7,B,2\n3,8,C,3\n4,6,D,4\n5,6,E,5\n"},
          {"st.csv", "station_id,name\n6,North\n7,East\n8,West\n"}};
}

TEST(ReachedRows, AreThoseThatSomeLinkLeadsTo) {
  const test::SmallModel all(text_with(""), files());
  const test::SmallModel some(text_with(" reached from sessions", " reached from bays"), files());
  const Dataset dataset = some.open();
  EXPECT_EQ(test::answer(dataset, "show list(lane, \"\" for bays) as lanes"), "BD") << "of every role";
  EXPECT_EQ(test::answer(dataset, "show list(name, \" \" for stations) as names"), "North East")
      << "of the bays that stay";
  for (const char* const query : {"by bays.lane show kwh total grand", "by stations.name, sessions.id show kwh",
                                  "by bays.half show kwh via first as first_kwh"}) {
    EXPECT_EQ(test::answer(dataset, query), test::answer(all.open(), query)) << query;
  }
  const auto loaded = load(some.path());
  ASSERT_TRUE(loaded);
  EXPECT_FALSE(loaded->loaded);
  EXPECT_EQ(loaded->tables[1].rows, 2U);
  EXPECT_EQ(loaded->tables[1].unreached, 3U);
  EXPECT_EQ(loaded->tables[2].unreached, 1U);
}

TEST(ReachedRows, FollowWhatIsLoadedLater) {
  const test::SmallModel model(text_with(" reached from sessions"), files());
  EXPECT_EQ(test::answer(model.open(), "show list(lane, \"\" for bays) as lanes"), "BD");
  model.folder.write("s-2.csv", "id,bay_id,kwh,first_bay\n5,1,50,\n");
  EXPECT_EQ(test::answer(model.open(), "show list(lane, \"\" for bays) as lanes"), "ABD");
  EXPECT_EQ(load(model.path())->tables[0].files_read, 0U);
  model.folder.write("model.ridge", text_with(""));
  EXPECT_EQ(test::answer(model.open(), "show list(lane, \"\" for bays) as lanes"), "ABCDE")
      << "what was left out comes back";
  model.folder.write("model.ridge", text_with(" reached from sessions"));
  const auto again = load(model.path());
  ASSERT_TRUE(again);
  EXPECT_EQ(again->tables[1].files_read, 0U) << "all rows were there";
  EXPECT_EQ(test::answer(model.open(), "show list(lane, \"\" for bays) as lanes"), "ABD");
}

TEST(ReachedRows, StayWhereALinkIsBroken) {
  auto repeated = files();
  repeated["b.csv"] += "2,7,again,1\n";
  const test::SmallModel model(text_with(" reached from sessions"), repeated);
  EXPECT_EQ(test::answer(model.open(), "show count(bays) as n"), "6");
}

TEST(ReachedRows, ErrorsNameTheLinesOfTheFile) {
  auto wide = files();
  wide["b.csv"] = "bay_id,station_id,lane,lane_no\n1,7,A,1\n2,7,B,9223372036854775807\n";
  std::string text = text_with(" reached from sessions");
  text.replace(text.find("10 div lane_no"), 14, "lane_no * 10  ");
  const test::SmallModel model(text, wide);
  const Diagnostics errors = model.errors();
  EXPECT_EQ(test::codes(errors), "JR-704");
  EXPECT_NE(test::messages(errors).find("row 2 ("), std::string::npos) << test::messages(errors);
  EXPECT_NE(test::messages(errors).find("b.csv:3)"), std::string::npos) << test::messages(errors);
}

TEST(ReachedRows, MustBeReachedByLinksOfTheSources) {
  const std::string calculated =
      "table s from csv \"s.csv\" { key id integer  n integer  twice = n * 2 }\n"
      "table d from csv \"d.csv\" reached from s { key k integer }\nlink s.twice -> d.k\n";
  EXPECT_EQ(test::codes(test::SmallModel(calculated, {}).errors()), "JR-217");
  const std::string circle =
      "table a from csv \"a.csv\" reached from b { key id integer  b_id integer }\n"
      "table b from csv \"b.csv\" reached from a { key id integer  a_id integer }\n"
      "link a.b_id -> b.id\nlink b.a_id -> a.id\n";
  EXPECT_NE(test::codes(test::SmallModel(circle, {}).errors()).find("JR-217"), std::string::npos);
}

// The values of a column as they stand in the store.
std::string stored(const Dataset& dataset, const std::string& column) {
  std::string list;
  for (const store::StoredColumn& c : store::store_of(dataset).tables[0].columns) {
    if (c.name != column) continue;
    for (std::uint64_t row = 0; row < c.data.rows; ++row)
      list += (list.empty() ? "" : " ") + (c.data.at(row).is_null() ? "-" : to_text(c.data.at(row), c.data.type));
  }
  return list;
}

TEST(SortedRows, StandInTheOrderThatTheTextSays) {
  const test::SmallModel model(text_with("", "", " sorted by (bay_id, kwh)"), files());
  EXPECT_EQ(stored(model.open(), "id"), "1 2 3 4");
  model.folder.write("s-2.csv", "id,bay_id,kwh,first_bay\n5,2,15,\n6,1,20,\n7,,1,2\n");
  EXPECT_EQ(stored(model.open(), "id"), "6 1 5 2 3 7 4") << "nulls are last";
  const auto loaded = load(model.path());
  ASSERT_TRUE(loaded);
  ASSERT_EQ(loaded->orders.size(), 1U);
  EXPECT_EQ(loaded->orders[0].columns, "bay_id, kwh");
  EXPECT_EQ(loaded->orders[0].file_order, "id");
  // Another order needs no file, nor does that of the files.
  model.folder.write("model.ridge", text_with("", "", " sorted by kwh"));
  EXPECT_EQ(load(model.path())->tables[0].files_read, 0U);
  EXPECT_EQ(stored(model.open(), "id"), "7 1 5 2 6 3 4") << "ties stand as in the files";
  model.folder.write("model.ridge", text_with(""));
  EXPECT_EQ(load(model.path())->tables[0].files_read, 0U);
  EXPECT_EQ(stored(model.open(), "id"), "1 2 3 4 5 6 7");
}

TEST(SortedRows, TheTextGoesBeforeWhatALoadAsksFor) {
  const test::SmallModel model(text_with("", "", " sorted by kwh"), files());
  LoadSettings smallest;
  smallest.order = RowOrder::smallest;
  ASSERT_TRUE(load(model.path(), {}, smallest));
  EXPECT_EQ(stored(model.open(), "kwh"), "10 20 30 40");
}

TEST(SortedRows, NeedSomethingThatSettlesTies) {
  auto repeated = files();
  repeated["s-1.csv"] = "id,bay_id,kwh,first_bay\n1,2,10,4\n1,2,10,\n";
  std::string text = text_with("", "", " sorted by kwh");
  text.replace(text.find("key id integer"), 14, "id integer    ");
  const test::SmallModel model(text, repeated);
  EXPECT_EQ(test::codes(model.errors()), "JR-516");
}

TEST(SortedRows, MayGoByManyWideColumns) {
  std::string sessions = "id,bay_id,kwh,first_bay\n";
  for (int i = 0; i < 6000; ++i) {
    const long long wide = (i * 7919LL % 6000) * 1000003000019LL;
    sessions += std::to_string(i) + "," + std::to_string(i % 2) + "," + std::to_string(wide) + "," +
                std::to_string(wide / 3) + "\n";
  }
  auto large = files();
  large["s-1.csv"] = sessions;
  const test::SmallModel model(text_with("", "", " sorted by (bay_id, kwh, first_bay, id)"), large);
  const Dataset dataset = model.open();
  const auto& columns = store::store_of(dataset).tables[0].columns;
  for (std::uint64_t row = 1; row < 6000; ++row) {
    const auto key = [&](std::uint64_t r) {
      return std::pair(columns[1].data.at(r).exact(), columns[2].data.at(r).exact());
    };
    ASSERT_LT(key(row - 1), key(row));
  }
}

}  // namespace
}  // namespace juniper::table_rows_test
