// A key of several columns: it names each row, and whoever takes one of its columns away is told.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>

#include "juniper/describe.h"
#include "juniper/export.h"
#include "juniper/format.h"
#include "juniper/refactor.h"
#include "juniper/unfold.h"
#include "support/support.h"

namespace juniper::table_key_test {
namespace {

constexpr const char* text = R"(table visits from csv "v.csv" {
  site text
  lane integer
  cost decimal(1)
  doubled = lane * 2
  key (site, lane)
}
measure spent = sum(cost for visits)
)";

test::SmallModel visits(const std::string& rows, const std::string& model = text) {
  return {model, {{"v.csv", "site,lane,cost\n" + rows}}};
}

TEST(TableKey, NamesEachRow) {
  // All small tables of two sites and two lanes, with a null in either: they load where no pair stands twice.
  const std::vector<std::string> rows{"A,1,1.0\n", "A,2,1.0\n", "B,1,1.0\n", ",1,1.0\n", "A,,1.0\n"};
  for (std::size_t first = 0; first < rows.size(); ++first) {
    for (std::size_t second = 0; second < rows.size(); ++second) {
      const bool is_good = first != second && first < 3 && second < 3;
      const test::SmallModel files = visits(rows[first] + rows[second]);
      const auto opened = Dataset::open(files.path());
      ASSERT_EQ(opened.has_value(), is_good) << rows[first] << rows[second];
      if (opened) {
        EXPECT_TRUE(verify(files.path()).has_value());
        continue;
      }
      EXPECT_EQ(test::codes(opened.error()), "JR-508");
      EXPECT_NE(opened.error()[0].place.line, 0U) << render(opened.error());
    }
  }
  const auto repeated = Dataset::open(visits("A,1,1.0\nB,1,2.0\nA,1,3.0\n").path());
  ASSERT_FALSE(repeated.has_value());
  EXPECT_EQ(repeated.error()[0].message,
            "the key visits.(site, lane) is (A, 1) here and in row 1 already (1 repeated keys in all)");
  EXPECT_EQ(repeated.error()[0].place.line, 4U);
  // A declaration that is new is looked at, though no byte of the store changes.
  const test::SmallModel later =
      visits("A,1,1.0\nA,1,2.0\n", "table visits from csv \"v.csv\" { site text  lane integer }\n");
  later.open();
  later.folder.write("model.ridge", "table visits from csv \"v.csv\" { site text  lane integer  key (site, lane) }\n");
  EXPECT_EQ(test::codes(later.errors()), "JR-508");
}

TEST(TableKey, IsPartOfTheModel) {
  const test::SmallModel files = visits("A,1,1.0\nA,2,2.0\n");
  const Dataset dataset = files.open();
  ASSERT_EQ(dataset.model().tables()[0].keys.size(), 1U);
  EXPECT_EQ(dataset.model().tables()[0].keys[0], (std::vector<std::string>{"site", "lane"}));
  const auto described = describe(dataset.model(), "visits.lane");
  ASSERT_TRUE(described.has_value());
  EXPECT_NE(std::find(described->at(0).used_by.begin(), described->at(0).used_by.end(), "key of visits"),
            described->at(0).used_by.end());
  EXPECT_EQ(test::codes(refactor(dataset, "drop visits.site").error()), "JR-803");
  // It tells rows apart where they are shown, and leaves with the tables.
  const auto unfolded = unfold(dataset, "spent");
  ASSERT_TRUE(unfolded.has_value());
  ASSERT_GE(unfolded->parts.back().columns.size(), 3U);
  EXPECT_EQ(unfolded->parts.back().columns[0].name, "site");
  EXPECT_EQ(unfolded->parts.back().columns[1].name, "lane");
  ASSERT_TRUE(export_tables(dataset, files.folder.path("out")).has_value());
  bool has_key = false;
  for (const auto& entry : std::filesystem::directory_iterator(files.folder.path("out"))) {
    if (entry.path().extension() == ".json")
      has_key = test::read_file(entry.path()).find("primaryKey") != std::string::npos;
  }
  EXPECT_TRUE(has_key);
}

TEST(TableKey, IsLaidOutAndReadBack) {
  const auto formatted = canonical_layout(text);
  ASSERT_TRUE(formatted.has_value());
  EXPECT_NE(formatted->find("\n  key (site, lane)\n"), std::string::npos) << *formatted;
  EXPECT_EQ(canonical_layout(*formatted), *formatted);
}

TEST(TableKey, SaysWhatIsWrong) {
  for (const auto& [key, code] :
       std::vector<std::pair<std::string, std::string>>{{"key (site)", "JR-110"},
                                                        {"key (site, site)", "JR-203"},
                                                        {"key (site, nothing)", "JR-202"},
                                                        {"key (site lane)", "JR-110"},
                                                        {"key id integer\n  key (id, lane)", "JR-203"}}) {
    const auto model = Model::parse(
        "m.ridge", fmt::format("table visits from csv \"v.csv\" {{\n  site text\n  lane integer\n  {}\n}}\n", key));
    ASSERT_FALSE(model.has_value()) << key;
    EXPECT_EQ(test::codes(model.error()), code) << key;
  }
}

}  // namespace
}  // namespace juniper::table_key_test
