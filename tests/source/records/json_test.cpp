// JSON as a source: what is drawn and written in every form gives the values of its twin in CSV, and what is no JSON is
// told with its line.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/json.h"
#include "source/json/pieces.h"
#include "source/read_source.h"
#include "source/records/record_source.h"

namespace juniper::source {
namespace {

using test::DrawnTable;
using test::read_source;
using test::request_of;
using test::texts_of;

// A value as JSON: numbers and truth values as such, or as texts.
std::string json_value(const std::optional<std::string>& value, Type type, bool as_text) {
  if (!value) return "null";
  const bool is_bare = type.kind == TypeKind::integer || type.kind == TypeKind::decimal ||
                       type.kind == TypeKind::real || type.kind == TypeKind::boolean;
  return is_bare && !as_text ? *value : base::json_text(*value);
}

enum class Form { lines, array, spread, objects };

std::string json_of(const DrawnTable& table, Form form, std::mt19937_64& random) {
  const bool is_array = form == Form::array || form == Form::spread;
  std::string text = is_array ? "[" : "";
  const std::string gap = form == Form::spread || form == Form::objects ? "\n  " : (random() % 2 == 0 ? " " : "");
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    if (is_array && r > 0) text += form == Form::spread ? "\n,\n" : ",";
    std::string record = "{";
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
      // What is null may also not be there.
      if (c > 0 && !table.rows[r][c] && random() % 2 == 0) continue;
      if (record.size() > 1) record += "," + gap;
      record += base::json_text(table.columns[c].name) + ":" + gap +
                json_value(table.rows[r][c], table.columns[c].type, random() % 3 == 0);
    }
    // What nobody reads.
    if (random() % 3 == 0) record += std::string(record.size() > 1 ? "," : "") + R"("else":{"id":[1,{"id":"}"}]})";
    text += record + gap + "}";
    if (form == Form::lines) text += random() % 5 == 0 ? "\r\n\n" : "\n";
  }
  if (is_array) text += "]\n";
  if (random() % 3 == 0) text.insert(0, "\xEF\xBB\xBF");
  return text;
}

TEST(JsonSource, EveryFormGivesTheValuesOfItsTwin) {
  std::mt19937_64 random(test::test_seed(11));
  for (std::size_t round = 0; round < test::test_count(30); ++round) {
    const test::TempFolder folder;
    const DrawnTable table = test::draw_table(random, random() % 400);
    folder.write("t.csv", table.csv());
    const auto twin = read_source(request_of(folder.path("t.csv"), base::SourceKind::csv, table.requests()));
    ASSERT_TRUE(twin) << test::messages(twin.error());
    const auto expected = texts_of(*twin);
    for (const Form form : {Form::lines, Form::array, Form::spread, Form::objects}) {
      folder.write("t.json", json_of(table, form, random));
      const TableRequest request = request_of(folder.path("t.json"), base::SourceKind::json, table.requests());
      const auto input = read_source(request, 1 + static_cast<unsigned>(random() % 3));
      ASSERT_TRUE(input) << test::messages(input.error());
      EXPECT_EQ(input->rows, table.rows.size());
      EXPECT_EQ(input->sources[0].hash, hash_file(request, folder.path("t.json")));
      EXPECT_EQ(texts_of(*input), expected) << test::read_file(folder.path("t.json"));
    }
  }
}

// However small the pieces, the same records come out of them, on the same lines.
TEST(JsonSource, PiecesOfAnySizeHoldTheSameRecords) {
  std::mt19937_64 random(test::test_seed(12));
  for (const Form form : {Form::lines, Form::array, Form::spread, Form::objects}) {
    const test::TempFolder folder;
    folder.write("t.json", json_of(test::draw_table(random, 40), form, random));
    std::vector<std::pair<std::string, std::uint64_t>> expected;
    for (const std::size_t bytes :
         {std::size_t{1} << 20, std::size_t{1}, std::size_t{7}, std::size_t{64}, std::size_t{300}}) {
      auto source = ByteSource::open(folder.path("t.json"));
      ASSERT_TRUE(source);
      JsonPieces pieces(std::move(*source), bytes);
      std::vector<std::pair<std::string, std::uint64_t>> records;
      std::uint64_t lines = 0;
      for (JsonPieces::Piece piece; pieces.next(piece); lines += piece.lines) {
        for (const JsonPieces::Span& record : piece.records)
          records.emplace_back(piece.text.substr(record.begin, record.end - record.begin), lines + record.line);
      }
      if (expected.empty()) expected = records;
      EXPECT_EQ(records.size(), 40U);
      // A blank or carriage return at the end of a line belongs to it or not.
      EXPECT_EQ(records, expected) << bytes;
    }
  }
}

std::string read_text(const std::string& json, const std::vector<ColumnRequest>& columns) {
  const test::TempFolder folder;
  folder.write("t.json", json);
  const auto input = read_source(request_of(folder.path("t.json"), base::SourceKind::json, columns));
  if (!input) {
    std::string told;
    for (const Diagnostic& error : input.error())
      told += fmt::format("{} {} {}; ", error.place.line, error.code, error.message);
    return told;
  }
  std::string text;
  const auto values = texts_of(*input);
  for (std::size_t row = 0; row < input->rows; ++row) {
    for (std::size_t c = 0; c < values.size(); ++c) text += (c == 0 ? "" : ",") + values[c][row];
    text += ";";
  }
  return text;
}

TEST(JsonSource, FieldsAreFoundByTheirPaths) {
  const Type text{TypeKind::text, 0};
  const std::vector<ColumnRequest> columns{
      {"a", "site.city", text}, {"b", "site", text}, {"c", "site.at.x", {TypeKind::integer, 0}}};
  EXPECT_EQ(read_text(R"({"site":{"city":"Mill","at":{"x":3,"y":[1, {"z":null}]}}})", columns),
            R"('Mill','{"city":"Mill","at":{"x":3,"y":[1,{"z":null}]}}','3';)");
  EXPECT_EQ(read_text(R"({"site.city":"Mill","site":[]}
{"site.at":{"x":4},"site":"none"}
{"site":{"at.x":5,"city":{"a":"\u00fc\""}}})",
                      columns),
            R"('Mill','[]',null;null,'none','4';'{"a":"ü\""}','{"at.x":5,"city":{"a":"ü\""}}','5';)");
  // A path within an array leads to nothing.
  EXPECT_EQ(read_text(R"([{"site":[{"city":"Mill"}]}])", columns), R"(null,'[{"city":"Mill"}]',null;)");
}

TEST(JsonSource, NumbersAreExact) {
  const std::vector<ColumnRequest> columns{
      {"i", "i", {TypeKind::integer, 0}}, {"d", "d", {TypeKind::decimal, 6}}, {"t", "t", {TypeKind::text, 0}}};
  EXPECT_EQ(read_text(R"({"i":9223372036854775807,"d":123456789012.345678,"t":1.50})", columns),
            "'9223372036854775807','123456789012.345678','1.50';");
  EXPECT_EQ(
      read_text(
          R"([{"i":1e3,"d":-1.5E-2,"t":1e3},{"i":-9223372036854775808,"d":0.1e+1,"t":true},{"i":5.0,"d":7,"t":18446744073709551615}])",
          columns),
      "'1000','-0.015000','1e3';'-9223372036854775808','1.000000','true';'5','7.000000','18446744073709551615';");
  EXPECT_NE(read_text(R"({"i":9223372036854775808})", columns).find("JR-507"), std::string::npos);
  EXPECT_NE(read_text(R"({"i":1.5})", columns).find("found \"1.5\", expected a whole number"), std::string::npos);
  EXPECT_NE(read_text(R"({"d":1e-7})", columns).find("JR-507"), std::string::npos);
  EXPECT_NE(read_text(R"({"d":1e400})", columns).find("JR-519"), std::string::npos);
}

TEST(JsonSource, WhatIsNoRecordIsToldWithItsLine) {
  const std::vector<ColumnRequest> columns{{"a", "a", {TypeKind::integer, 0}}};
  const std::vector<std::pair<std::string, std::string>> cases{
      {"{\"a\":1}\n{\"a\":}\n{\"a\":2}", "2 JR-519 this record is not JSON: it can't be read at its byte 6; "},
      {"{\"a\":1}\n[1]\n3",
       "2 JR-519 this record is an array, not an object; 3 JR-519 this record is a single value, not an object; "},
      {"{\"a\":1,\"a\":1}", "1 JR-519 this record has a field twice; "},
      {"{\n\"a\":1}\n{\"a\":}", "3 JR-519 this record is not JSON: it can't be read at its byte 6; "},
      {"{\n\"a\":1}\n]", "3 JR-519 this file holds something between or behind its objects that is none; "},
      {"{\n\"a\":1}\n\n{\"a\":", "4 JR-519 this file holds something between or behind its objects that is none; "},
      {"[{\"a\":1}\n{\"a\":2}]", "2 JR-519 a comma or the end of the array was expected behind a record; "},
      {"[{\"a\":1},\n]", "2 JR-519 a record was expected in the array; "},
      {"[{\"a\":1},\n{\"a\":2}", "2 JR-519 this file ends in the middle of an array; "},
      {"[{\"a\":1},\n\n{\"a\":2", "3 JR-519 this file ends in the middle of a record; "},
      {"[{\"a\":1}]\nx", "1 JR-519 something stands behind the end of the array; "},
      {"[\n{\"a\":1},\n\n{\"a\":\"x\"}]", "4 JR-507 'a': found \"x\", expected a whole number of 64 bits for t.a; "},
      {"{\"a\":\"\xff\"}", "1 JR-519"},
  };
  for (const auto& [json, told] : cases)
    EXPECT_EQ(read_text(json, columns).substr(0, told.ends_with("; ") ? std::string::npos : told.size()), told) << json;
  EXPECT_EQ(read_text("", columns), "");
  EXPECT_EQ(read_text("[]", columns), "");
  EXPECT_EQ(read_text("\n \n[ \n ]  \n", columns), "");
}

TEST(JsonSource, RejectsHoldWhatCannotBeRead) {
  const test::TempFolder folder;
  folder.write("t.json", "{\"a\":1,\"b\":\"x\"}\nnot this\n{\"a\":\"y\",\"b\":\"z,\"}\n{\"a\":4}\n");
  auto rejects = Rejects::open(folder.path("bad.csv"));
  ASSERT_TRUE(rejects);
  const auto input = read_source(request_of(folder.path("t.json"), base::SourceKind::json,
                                            {{"a", "a", {TypeKind::integer, 0}}, {"b", "b", {TypeKind::text, 0}}}),
                                 2, &*rejects);
  ASSERT_TRUE(input) << test::messages(input.error());
  ASSERT_TRUE(rejects->close());
  EXPECT_EQ(texts_of(*input), (std::vector<std::vector<std::string>>{{"'1'", "'4'"}, {"'x'", "null"}}));
  EXPECT_EQ(input->sources[0].rejected, 2U);
  const std::string bad = test::read_file(folder.path("bad.csv"));
  EXPECT_NE(bad.find(R"(,2,"this record is not JSON: it can't be read at its byte 2","not this")"), std::string::npos)
      << bad;
  EXPECT_NE(bad.find(R"(,3,"'a': found ""y"", expected a whole number of 64 bits for t.a","y,""z,""")"),
            std::string::npos)
      << bad;
}

TEST(JsonSource, AFieldThatNoRecordHasIsAWarning) {
  const test::SmallModel model(
      "table t from json \"t.json\" { a integer  b text from \"x.b\"  c text }\nmeasure n = count(t)\n",
      {{"t.json", "{\"a\":1,\"c\":null}\n{\"x\":{\"b\":\"y\"}}\n"}});
  const Diagnostics warnings = model.open().warnings();
  ASSERT_EQ(test::codes(warnings), "JR-522");
  EXPECT_EQ(warnings[0].message, "no record has a value of 'c': t.c is null in all 2 rows");
  Options strict;
  strict.reading.strict = true;
  EXPECT_EQ(test::codes(Dataset::open(model.path(), strict).error()), "JR-522");
}

// Cut anywhere, or with any byte changed, a file is read or told, and the rows before the fault are not lost in silence.
TEST(JsonSource, DamageIsTold) {
  std::mt19937_64 random(test::test_seed(13));
  const test::TempFolder folder;
  const DrawnTable table = test::draw_table(random, 6);
  for (const Form form : {Form::lines, Form::array}) {
    const std::string whole = json_of(table, form, random);
    for (std::size_t cut = 0; cut < whole.rfind(form == Form::array ? ']' : '}'); cut += 1 + random() % 3) {
      folder.write("t.json", whole.substr(0, cut));
      const auto input = read_source(request_of(folder.path("t.json"), base::SourceKind::json, table.requests()), 1);
      if (!input) continue;
      if (form == Form::array) {
        EXPECT_EQ(input->rows, 0U) << whole.substr(0, cut);
      } else {
        EXPECT_LE(input->rows, table.rows.size());
      }
    }
    for (std::size_t i = 0; i < 400; ++i) {
      std::string changed = whole;
      changed[random() % changed.size()] = static_cast<char>(random());
      folder.write("t.json", changed);
      const auto input = read_source(request_of(folder.path("t.json"), base::SourceKind::json, table.requests()), 1);
      EXPECT_TRUE(input || !test::messages(input.error()).empty());
    }
  }
}

}  // namespace
}  // namespace juniper::source
