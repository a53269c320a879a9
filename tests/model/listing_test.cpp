// What a program is told of a model without reading its text.
#include <gtest/gtest.h>

#include "juniper/model.h"

namespace juniper::listing_test {
namespace {

constexpr const char* text = R"(model "Small"
param least = 0.50 "From where"
table sessions from csv "data/s-*.csv" "One row a session" {
  key id integer
  hidden bay_id integer from "Bay No"
  day date
  kwh decimal(3) format "#,##0.0" used by "finance workbook"
  twice = kwh * 2 "Doubled"
}
table bays from csv "data/bays.csv" { key bay_id integer  site text sorted by rank  rank integer }
table days from csv "data/days.csv" { key day date }
table sites = distinct(bays.site)
link sessions.bay_id -> bays.bay_id
link sessions.day -> days.day as billed
measure total = sum(kwh for sessions where kwh > least) format "0.0" "All of it" used by "a slide"
hidden measure helper = count(sessions)
query by_site "Sites" { by bays.site show total }
function doubled(x) = x * 2 "Twice as much"
reader team "A team" { bays where site = "Pier"  hide sessions.kwh }
)";

Model model() {
  auto parsed = Model::parse("folder/m.ridge", text);
  EXPECT_TRUE(parsed) << (parsed ? "" : render(parsed.error()));
  return *parsed;
}

TEST(Listing, Tables) {
  const auto tables = model().tables();
  ASSERT_EQ(names_of(tables), (std::vector<std::string>{"sessions", "bays", "days", "sites"}));
  const TableInfo& sessions = tables[0];
  EXPECT_EQ(sessions.source, "data/s-*.csv");
  EXPECT_EQ(sessions.description, "One row a session");
  EXPECT_FALSE(sessions.is_calculated);
  EXPECT_EQ(sessions.place, (Place{"folder/m.ridge", 3, 1}));
  EXPECT_TRUE(tables[3].is_calculated);
  EXPECT_EQ(tables[3].definition, "distinct(bays.site)");
}

TEST(Listing, Columns) {
  const auto tables = model().tables();
  const auto& columns = tables[0].columns;
  ASSERT_EQ(names_of(columns), (std::vector<std::string>{"id", "bay_id", "day", "kwh", "twice"}));
  EXPECT_TRUE(columns[0].is_key);
  EXPECT_TRUE(columns[1].is_hidden);
  EXPECT_EQ(columns[1].header, "Bay No");
  EXPECT_EQ(columns[3].type, (Type{TypeKind::decimal, 3}));
  EXPECT_EQ(columns[3].format, "#,##0.0");
  EXPECT_EQ(columns[3].used_by, std::vector<std::string>{"finance workbook"});
  EXPECT_TRUE(columns[4].is_calculated);
  EXPECT_EQ(columns[4].definition, "kwh * 2");
  EXPECT_EQ(columns[4].description, "Doubled");
  EXPECT_EQ(tables[1].columns[1].sorted_by, "rank");
}

TEST(Listing, Links) {
  const auto links = model().links();
  ASSERT_EQ(links.size(), 2U);
  EXPECT_EQ(links[0].many_table, "sessions");
  EXPECT_EQ(links[0].many_columns, std::vector<std::string>{"bay_id"});
  EXPECT_EQ(links[0].one_table, "bays");
  EXPECT_EQ(links[0].one_columns, std::vector<std::string>{"bay_id"});
  EXPECT_EQ(links[0].role, "");
  EXPECT_EQ(links[1].role, "billed");
  EXPECT_EQ(links[1].name, "sessions.day -> days.day as billed");
}

TEST(Listing, FunctionsAndReaders) {
  const auto functions = model().functions();
  ASSERT_EQ(names_of(functions), std::vector<std::string>{"doubled"});
  EXPECT_EQ(functions[0].arguments, std::vector<std::string>{"x"});
  EXPECT_EQ(functions[0].definition, "function doubled(x) = x * 2 \"Twice as much\"");
  EXPECT_EQ(functions[0].description, "Twice as much");
  const auto readers = model().readers();
  ASSERT_EQ(names_of(readers), std::vector<std::string>{"team"});
  EXPECT_EQ(readers[0].description, "A team");
  EXPECT_EQ(readers[0].rows, std::vector<std::string>{"bays where site = \"Pier\""});
  EXPECT_EQ(readers[0].hidden, std::vector<std::string>{"sessions.kwh"});
}

TEST(Listing, MeasuresParametersAndQueries) {
  const auto measures = model().measures();
  ASSERT_EQ(names_of(measures), (std::vector<std::string>{"total", "helper"}));
  EXPECT_EQ(measures[0].type.kind, TypeKind::decimal);
  EXPECT_EQ(measures[0].definition, "sum(kwh for sessions where kwh > least)");
  EXPECT_EQ(measures[0].format, "0.0");
  EXPECT_EQ(measures[0].used_by, std::vector<std::string>{"a slide"});
  EXPECT_TRUE(measures[1].is_hidden);
  ReadOptions options;
  options.settings["least"] = "0.75";
  const auto parameters = Model::parse("m.ridge", text, options)->parameters();
  ASSERT_EQ(parameters.size(), 1U);
  EXPECT_EQ(to_text(parameters[0].value, parameters[0].type), "0.75");
  const auto queries = model().queries();
  ASSERT_EQ(names_of(queries), std::vector<std::string>{"by_site"});
  EXPECT_EQ(queries[0].title, "Sites");
  EXPECT_EQ(queries[0].definition, "by bays.site show total");
}

}  // namespace
}  // namespace juniper::listing_test
