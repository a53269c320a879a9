// A measure opened into its parts, over data small enough to count by hand.
#include "juniper/unfold.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "juniper/report.h"
#include "support/support.h"

namespace juniper::unfold_test {
namespace {

const char* const text = R"(
table sessions from csv "s.csv" { key id integer  bay integer  code text  kwh decimal(1)  charge = kwh * tariffs.price }
table bays from csv "b.csv" { key bay integer  region text }
table tariffs from csv "t.csv" { key code text  price decimal(2) }
table cards from csv "c.csv" { key card integer }
link sessions.bay -> bays.bay
link sessions.code -> tariffs.code
measure revenue = sum(charge for sessions where kwh > 1)
measure dear    = (revenue where tariffs.price >= 0.4)
measure price   = revenue / sum(kwh for sessions)
measure best    = max(revenue of b for b in bays)
measure n_cards = count(cards)
)";

const std::map<std::string, std::string> files{
    {"s.csv",
     "id,bay,code,kwh\n1,1,A,10.0\n2,1,B,20.0\n3,2,A,30.0\n4,1,X,40.0\n5,1,,50.0\n6,1,A,0.5\n7,1,A,\n8,9,A,5.0\n"},
    {"b.csv", "bay,region\n1,Coast\n2,Upland\n"},
    {"t.csv", "code,price\nA,0.30\nB,0.50\n"},
    {"c.csv", "card\n1\n"}};

class Unfold : public testing::Test {
 protected:
  Unfold() : model_(text, files), dataset_(model_.open()) {}

  std::vector<UnfoldedPart> parts(const std::string& measure, const std::vector<std::string>& at = {}) {
    const auto made = unfold(dataset_, measure, at, 2);
    EXPECT_TRUE(made) << test::messages(made.error());
    return made ? made->parts : std::vector<UnfoldedPart>{};
  }
  static std::string outline(const std::vector<UnfoldedPart>& parts) {
    std::string all;
    for (const UnfoldedPart& part : parts) {
      all += std::string(2 * std::size_t{part.depth}, ' ') + std::string(to_string(part.kind)) + " " + part.text +
             " = " + (part.value.is_null() ? "null" : to_text(part.value, part.type)) + "\n";
    }
    return all;
  }
  static std::string rows(const UnfoldedPart& part) {
    std::string all;
    for (const UnfoldedColumn& column : part.columns) all += column.name + " ";
    all += "\n";
    for (const UnfoldedRow& row : part.rows) {
      for (std::size_t c = 0; c < row.cells.size(); ++c)
        all += (row.cells[c].is_null() ? "null" : to_text(row.cells[c], part.columns[c].type)) + " ";
      all += row.skipped ? "skipped\n" : "\n";
    }
    return all;
  }

  test::SmallModel model_;
  Dataset dataset_;
};

TEST_F(Unfold, OpensTheDefinitionsInTheSlice) {
  const auto all = parts("price", {"bays.region = \"Coast\""});
  EXPECT_EQ(outline(all),
            "measure price = 0.1078838174273859\n"
            "  expression revenue / sum(kwh for sessions) = 0.1078838174273859\n"
            "    measure revenue = 13.000\n"
            "      aggregate sum(charge for sessions where kwh > 1) = 13.000\n"
            "    aggregate sum(kwh for sessions) = 120.5\n");
}

TEST_F(Unfold, CountsRowsSeenKeptAndSkippedAndLookUpsWithoutAMatch) {
  const auto all = parts("revenue", {"bays.region = \"Coast\""});
  const UnfoldedPart& sum = all.at(1);
  EXPECT_EQ(sum.table, "sessions");
  EXPECT_EQ(sum.all, 8U);
  EXPECT_EQ(sum.seen, 6U);     // of bay 1
  EXPECT_EQ(sum.kept, 4U);     // more than 1 kWh: not the sixth and the seventh
  EXPECT_EQ(sum.skipped, 2U);  // tariffs X and null
  ASSERT_EQ(sum.misses.size(), 1U);
  EXPECT_EQ(sum.misses[0].link, "sessions.code -> tariffs.code");
  EXPECT_EQ(sum.misses[0].rows, 2U);
  EXPECT_EQ(sum.misses[0].keys, (std::vector<std::string>{"X", "null"}));
  EXPECT_EQ(rows(sum),
            "id charge kwh code tariffs.price \n"
            "2 10.000 20.0 B 0.50 \n"
            "1 3.000 10.0 A 0.30 \n"
            "4 null 40.0 X null skipped\n"
            "5 null 50.0 null null skipped\n");
}

TEST_F(Unfold, TellsWhereEachFilterIsWritten) {
  const auto all = parts("dear", {"bays.region = \"Coast\""});
  EXPECT_EQ(outline(all),
            "measure dear = 10.000\n"
            "  slice (revenue where tariffs.price >= 0.4) = 10.000\n"
            "    measure revenue = 10.000\n"
            "      aggregate sum(charge for sessions where kwh > 1) = 10.000\n");
  const UnfoldedPart& sum = all.back();
  ASSERT_EQ(sum.filters.size(), 2U);
  EXPECT_EQ(sum.filters[0].text, "bays.region = \"Coast\"");
  EXPECT_EQ(sum.filters[0].place.file, "<where>");
  EXPECT_EQ(sum.filters[1].text, "tariffs.price >= 0.4");
  EXPECT_EQ(sum.filters[1].place.line, 9U);
  EXPECT_TRUE(sum.filters[0].reaches && sum.filters[1].reaches);
  EXPECT_EQ(sum.seen, 1U);
}

TEST_F(Unfold, ShowsTheRowsOfALoopWithTheirMeasures) {
  const auto all = parts("best");
  const UnfoldedPart& best = all.at(1);
  EXPECT_EQ(best.kept, 2U);
  EXPECT_EQ(rows(best), "bay revenue of b \n1 13.000 \n2 9.000 \n");
}

TEST_F(Unfold, ShowsWhichRowIsTheLast) {
  const auto all = parts("last(kwh by (bay, code desc) for sessions)");
  EXPECT_EQ(to_text(all.at(0).value, all[0].type), "5.0");
  EXPECT_EQ(rows(all.at(0)), "id kwh bay code \n8 5.0 9 A \n3 30.0 2 A \n");
}

TEST_F(Unfold, NothingIsNullAndErrorsAreThoseOfAsking) {
  const auto all = parts("revenue", {"bays.region = \"Nowhere\""});
  EXPECT_EQ(outline(all), "measure revenue = null\n  aggregate sum(charge for sessions where kwh > 1) = null\n");
  EXPECT_EQ(all.at(1).seen, 0U);
  EXPECT_TRUE(all.at(1).rows.empty());
  const auto wrong = unfold(dataset_, "revenu");
  ASSERT_FALSE(wrong);
  EXPECT_EQ(wrong.error()[0].code, "JR-204");
  EXPECT_EQ(unfold(dataset_, "revenue by bays.region").error()[0].code, "JR-408");
  EXPECT_EQ(unfold(dataset_, "revenue, price").error()[0].code, "JR-408");
  EXPECT_EQ(unfold(dataset_, "n_cards", {"bays.region = \"Coast\""}).error()[0].code, "JR-403");
}

TEST_F(Unfold, IsACommand) {
  const auto run =
      test::run_tool({"unfold", model_.path(), "price", "--at", "bays.region = \"Coast\"", "--format", "json"});
  ASSERT_EQ(run.status, 0) << run.err;
  const auto json = nlohmann::json::parse(run.out);
  EXPECT_EQ(json["parts"].size(), 5U);
  EXPECT_EQ(json["parts"][3]["seen"], 6);
  EXPECT_EQ(json["rows_of_3"][0]["id"], 2);
}

// Rows can be found again: by what tells them apart, and by where they were read.
TEST_F(Unfold, SamplesCanBeTraced) {
  const std::string columns = " { id integer  bay text  kwh decimal(1)  double = kwh * 2 }\n";
  const auto rows_of = [](const Dataset& dataset, const std::string& measure) {
    std::string told;
    const auto unfolding = unfold(dataset, measure);
    if (!unfolding) ADD_FAILURE() << test::messages(unfolding.error());
    for (const UnfoldedPart& part : unfolding->parts) {
      if (part.kind != UnfoldedKind::aggregate) continue;
      for (const UnfoldedColumn& column : part.columns) told += column.name + " ";
      for (const UnfoldedRow& row : part.rows) {
        told += fmt::format("| {}:{}", std::filesystem::path(row.file).filename().string(), row.record);
        for (std::size_t c = 0; c < row.cells.size(); ++c)
          told += " " + (row.cells[c].is_null() ? "null" : to_text(row.cells[c], part.columns[c].type));
      }
    }
    return told;
  };
  const std::map<std::string, std::string> sources{{"s1.csv", "id,bay,kwh\n1,A,1.5\n2,B,9.5\n"},
                                                   {"s2.csv", "id,bay,kwh\n3,,2.5\n"}};
  const std::string measures = "measure n = count(s)\nmeasure total = sum(double for s)\n";
  const test::SmallModel model("table s from csv \"s*.csv\"" + columns + measures, sources);
  EXPECT_EQ(rows_of(model.open(), "n"), "id bay kwh | s1.csv:1 1 A 1.5| s1.csv:2 2 B 9.5| s2.csv:1 3 null 2.5");
  EXPECT_EQ(rows_of(model.open(), "total"),
            "id bay double kwh | s1.csv:2 2 B 19.0 9.5| s2.csv:1 3 null 5.0 2.5| s1.csv:1 1 A 3.0 1.5");
  // Sorted rows do not stand as in the files.
  const test::SmallModel sorted("table s from csv \"s*.csv\" sorted by bay" + columns + measures, sources);
  EXPECT_EQ(rows_of(sorted.open(), "n").find("csv"), std::string::npos);
  EXPECT_NE(render(report(*unfold(model.open(), "total"))).find("s2.csv          1"), std::string::npos)
      << render(report(*unfold(model.open(), "total")));
}

}  // namespace
}  // namespace juniper::unfold_test
