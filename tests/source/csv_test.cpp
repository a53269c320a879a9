#include <gtest/gtest.h>

#include <random>

#include "source/csv_reader.h"
#include "source/csv_table.h"
#include "support/support.h"

namespace juniper::source {
namespace {

// The records of a text, as [a|b] with nulls as ~; the code of what ended the reading early.
std::string records(const std::string& text, char delimiter = ',') {
  const test::TempFolder folder;
  auto reader = CsvReader::open(folder.write("t.csv", text), delimiter);
  if (!reader) return test::codes(reader.error());
  std::string out;
  std::vector<Field> fields;
  while (reader->next(fields)) {
    out += "[";
    for (std::size_t i = 0; i < fields.size(); ++i)
      out += (i == 0 ? "" : "|") + (fields[i].is_null() ? "~" : std::string(fields[i].text));
    out += "]";
  }
  return out + test::codes(reader->errors());
}

TEST(CsvReader, ReadsWhatTheStandardDescribes) {
  struct Case {
    std::string text;
    std::string expected;
  };
  for (const Case& c : {Case{"", ""},
                        Case{"a,b\n1,2\n", "[a|b][1|2]"},
                        Case{"a,b\r\n1,2\r\n", "[a|b][1|2]"},
                        Case{"a,b\n1,2", "[a|b][1|2]"},
                        Case{"a,b\n1,2\r", "[a|b][1|2]"},
                        Case{"\xEF\xBB\xBF"
                             "a\n1\n",
                             "[a][1]"},
                        Case{"a,b\n,\n", "[a|b][~|~]"},
                        Case{"a,b\n\"\",x\n", "[a|b][|x]"},
                        Case{"a\n\"x,y\"\n", "[a][x,y]"},
                        Case{"a\n\"x\"\"y\"\n", "[a][x\"y]"},
                        Case{"a\n\"\"\"\"\n", "[a][\"]"},
                        Case{"a,b\n\"x\ny\",2\n3,4\n", "[a|b][x\ny|2][3|4]"},
                        Case{"a,b\n1,2\n\n3,4\n", "[a|b][1|2][3|4]"},
                        Case{"a\n1\n\n2\n", "[a][1][~][2]"},
                        Case{"a,b\n1, x y \n", "[a|b][1| x y ]"},
                        Case{"a\nx\"y\n", "[a][x\"y]"},
                        Case{"a\n\"x\" y\n", "[a]JR-502"},
                        Case{"a\n\"x\n", "[a]JR-502"},
                        Case{"a\rb\n", "JR-502"},
                        Case{"a,b\n1", "[a|b][1]"}}) {
    EXPECT_EQ(records(c.text), c.expected) << c.text;
  }
  EXPECT_EQ(records("a;b\n1,5;2\n", ';'), "[a|b][1,5|2]");
  EXPECT_EQ(records("a\tb\n1\t\n", '\t'), "[a|b][1|~]");
}

std::string in_quotes(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

// Records of all sizes, over the border of the reader's buffer too, come back as they were written.
TEST(CsvReader, ReadsBackRandomRecords) {
  const std::uint64_t seed = test::test_seed(3);
  std::mt19937_64 random(seed);
  const std::string alphabet = "ab\",\n\r ;x";
  std::vector<std::vector<std::string>> written;
  std::string text;
  while (text.size() < (9U << 20)) {
    written.emplace_back();
    for (int f = 0; f < 3; ++f) {
      std::string field(random() % (random() % 200 == 0 ? 60000 : 9), ' ');
      for (char& c : field) c = alphabet[random() % alphabet.size()];
      written.back().push_back(field);
      text += (f == 0 ? "" : ",") + in_quotes(field);
    }
    text += random() % 2 == 0 ? "\n" : "\r\n";
  }
  const test::TempFolder folder;
  auto reader = CsvReader::open(folder.write("t.csv", text), ',');
  std::vector<Field> fields;
  std::uint32_t line = 1;
  for (const auto& record : written) {
    ASSERT_TRUE(reader->next(fields)) << "seed " << seed << test::messages(reader->errors());
    ASSERT_EQ(fields.size(), record.size()) << "seed " << seed;
    ASSERT_EQ(reader->line(), line) << "seed " << seed;
    ++line;
    for (std::size_t i = 0; i < record.size(); ++i) {
      ASSERT_EQ(fields[i].text, record[i]) << "seed " << seed;
      line += static_cast<std::uint32_t>(std::count(record[i].begin(), record[i].end(), '\n'));
    }
  }
  EXPECT_FALSE(reader->next(fields));
  EXPECT_EQ(reader->bytes_read(), text.size());
}

TableRequest request(const test::TempFolder& folder, const std::string& pattern, std::vector<ColumnRequest> columns) {
  return {"t", folder.path(), pattern, ',', std::move(columns)};
}

TEST(CsvTable, ReadsColumnsByTheirHeaderFromAllFiles) {
  const test::TempFolder folder;
  folder.write("p-2.csv", "name,id,more\nb,2,x\n,3,x\n");
  folder.write("p-1.csv", "id,name\n1,a\n");
  folder.write("other.csv", "id,name\n9,z\n");
  const auto table = read_table(
      request(folder, "p-*.csv", {{"id", "id", {TypeKind::integer, 0}}, {"label", "name", {TypeKind::text, 0}}}),
      nullptr);
  ASSERT_TRUE(table) << test::messages(table.error());
  EXPECT_EQ(table->rows, 3U);
  EXPECT_EQ(table->columns[0].exact, (std::vector<std::int64_t>{1, 2, 3}));
  EXPECT_EQ(table->columns[1].texts, (std::vector<std::string_view>{"a", "b"}));
  EXPECT_EQ(table->columns[1].is_null, (std::vector<std::uint8_t>{0, 0, 1}));
  EXPECT_EQ(table->sources.size(), 2U);
  EXPECT_EQ(table->sources[0].hash, hash_file(folder.path("p-1.csv")));
}

TEST(CsvTable, TellsFileLineFoundAndExpected) {
  const test::TempFolder folder;
  struct Case {
    std::string text;
    Type type;
    std::string code;
    std::uint32_t line;
    std::string says;
  };
  for (const Case& c :
       {Case{"x,y\n1,\n2.5,\n", {TypeKind::integer, 0}, "JR-507", 3, "found \"2.5\", expected a whole number"},
        Case{"x,y\n99999999999999999999,\n", {TypeKind::integer, 0}, "JR-507", 2, "64 bits"},
        Case{"x,y\n-,\n", {TypeKind::integer, 0}, "JR-507", 2, "whole number"},
        Case{"x,y\n1.234,\n", {TypeKind::decimal, 2}, "JR-507", 2, "at most 2 digits"},
        Case{"x,y\n\"\",\n", {TypeKind::integer, 0}, "JR-507", 2, "found \"\""},
        Case{"x,y\n2024-02-30,\n", {TypeKind::date, 0}, "JR-507", 2, "a date like"},
        Case{"x,y\nyes,\n", {TypeKind::boolean, 0}, "JR-507", 2, "true or false"},
        Case{"x,y\nnan,\n", {TypeKind::real, 0}, "JR-507", 2, "finite"},
        Case{"x,y\n\"a\nb\",1\n\xff,2\n", {TypeKind::text, 0}, "JR-503", 4, "UTF-8"},
        Case{"x,y\n1\n", {TypeKind::integer, 0}, "JR-506", 2, "1 fields, and the header has 2"},
        Case{"x,y\n1,2,3\n", {TypeKind::integer, 0}, "JR-506", 2, "3 fields"},
        Case{"y\n1\n", {TypeKind::integer, 0}, "JR-505", 1, "no column 'x'"},
        Case{"x,x\n1,1\n", {TypeKind::integer, 0}, "JR-505", 1, "2 times"},
        Case{"", {TypeKind::integer, 0}, "JR-505", 1, "empty"},
        Case{"x,y\n\"1,2\n", {TypeKind::integer, 0}, "JR-502", 2, "does not end"}}) {
    folder.write("t.csv", c.text);
    const auto table = read_table(request(folder, "t.csv", {{"x", "x", c.type}}), nullptr);
    ASSERT_FALSE(table) << c.text;
    const Diagnostic& error = table.error().front();
    EXPECT_EQ(error.code, c.code) << c.text;
    EXPECT_EQ(error.place.line, c.line) << c.text;
    EXPECT_EQ(error.place.file, folder.path("t.csv"));
    EXPECT_NE(error.message.find(c.says), std::string::npos) << error.message;
  }
  EXPECT_EQ(test::codes(read_table(request(folder, "no.csv", {}), nullptr).error()), "JR-504");
  EXPECT_EQ(test::codes(read_table(request(folder, "", {}), nullptr).error()).substr(0, 5), "JR-50");
}

TEST(CsvTable, ListsTheFirstTwentyBadCells) {
  const test::TempFolder folder;
  std::string text = "x\n";
  for (int i = 0; i < 100; ++i) text += "bad\n";
  folder.write("t.csv", text);
  const auto table = read_table(request(folder, "t.csv", {{"x", "x", {TypeKind::integer, 0}}}), nullptr);
  ASSERT_FALSE(table);
  EXPECT_EQ(table.error().size(), 20U);
}

TEST(CsvTable, LocatesRowsOverFilesAndLines) {
  const test::TempFolder folder;
  folder.write("a-1.csv", "x,y\n\"1\n\",1\n2,1\n");
  folder.write("a-2.csv", "x,y\n3,1\n4,1\n");
  const auto places = locate_rows(request(folder, "a-*.csv", {}), {1, 3});
  ASSERT_EQ(places.size(), 2U);
  EXPECT_EQ(places[0].line, 4U);
  EXPECT_EQ(places[1], (Place{folder.path("a-2.csv"), 3, 0}));
}

}  // namespace
}  // namespace juniper::source
