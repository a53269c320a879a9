// Parquet files as other programs write them (samples/, made by writers/write.mjs): each gives the values of its twin in
// CSV, whole and in parts, and none that is damaged does more than say so.
#include "source/parquet/table.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <map>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/scan.h"
#include "random/random_model.h"
#include "source/read_source.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::source {
namespace {

namespace fs = std::filesystem;
using test::read_source;
using test::request_of;
using test::texts_of;

const fs::path samples = fs::path(JUNIPER_SOURCE_DIR) / "tests/source/parquet/samples";

std::vector<fs::path> sample_files() {
  std::vector<fs::path> files;
  for (const auto& entry : fs::directory_iterator(samples)) {
    if (entry.path().extension() == ".parquet") files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  return files;
}

std::vector<ColumnRequest> requested(const std::vector<ParquetColumn>& columns) {
  std::vector<ColumnRequest> requests;
  for (const ParquetColumn& column : columns)
    requests.push_back({fmt::format("c{}", requests.size()), column.name, column.type});
  return requests;
}

TEST(Parquet, EverySampleGivesTheValuesOfItsTwin) {
  const std::vector<fs::path> files = sample_files();
  ASSERT_GE(files.size(), 18U);
  for (const fs::path& file : files) {
    const auto found = parquet_columns(file);
    ASSERT_TRUE(found) << test::messages(found.error());
    std::vector<ColumnRequest> columns = requested(*found);
    EXPECT_GE(columns.size(), 8U) << file;
    const auto twin = read_source(request_of(samples / "twin.csv", base::SourceKind::csv, columns));
    ASSERT_TRUE(twin) << file << test::messages(twin.error());
    const auto expected = texts_of(*twin);
    for (const unsigned threads : {1U, 3U}) {
      const auto input = read_source(request_of(file, base::SourceKind::parquet, columns), threads);
      ASSERT_TRUE(input) << test::messages(input.error());
      EXPECT_EQ(input->rows, 270U);
      EXPECT_EQ(input->sources[0].rows, 270U);
      EXPECT_EQ(input->sources[0].hash, hash_file({}, file));
      const auto texts = texts_of(*input);
      for (std::size_t c = 0; c < columns.size(); ++c) EXPECT_EQ(texts[c], expected[c]) << file << columns[c].header;
    }
  }
}

// Some of the columns, in another order, of types that are not the file's: read as the text that they would be in CSV.
TEST(Parquet, ColumnsOfOtherTypesAreReadAsTheirTexts) {
  const std::vector<std::pair<std::string, Type>> columns{
      {"many", {TypeKind::text, 0}}, {"i16", {TypeKind::text, 0}},   {"i32", {TypeKind::decimal, 3}},
      {"i8", {TypeKind::real, 0}},   {"d9", {TypeKind::decimal, 5}}, {"d9", {TypeKind::real, 0}},
      {"d18", {TypeKind::text, 0}},  {"f64", {TypeKind::text, 0}},   {"day", {TypeKind::text, 0}},
      {"flag", {TypeKind::text, 0}}, {"u32", {TypeKind::real, 0}},   {"st.a", {TypeKind::decimal, 15}},
      {"d38", {TypeKind::real, 0}}};
  for (const auto& [header, type] : columns) {
    const std::vector<ColumnRequest> wanted{{"c", header, type}};
    const auto input = read_source(request_of(samples / "a-zstd-v1.parquet", base::SourceKind::parquet, wanted));
    ASSERT_TRUE(input) << header << test::messages(input.error());
    const auto twin = read_source(request_of(samples / "twin.csv", base::SourceKind::csv, wanted));
    ASSERT_TRUE(twin) << header << test::messages(twin.error());
    // The twin writes reals and truth values in its own way.
    if (header == "f64" || header == "d38") continue;
    EXPECT_EQ(texts_of(*input), texts_of(*twin)) << header << to_string(type);
  }
  const std::vector<ColumnRequest> parts{{"d", "ts", {TypeKind::date, 0}, base::FieldPart::date},
                                         {"t", "ts", {TypeKind::time, 0}, base::FieldPart::time},
                                         {"r", "d18", {TypeKind::decimal, 1}, base::FieldPart::round}};
  const auto input = read_source(request_of(samples / "a-zstd-v2.parquet", base::SourceKind::parquet, parts));
  ASSERT_TRUE(input) << test::messages(input.error());
  const auto twin = read_source(request_of(samples / "twin.csv", base::SourceKind::csv, parts));
  ASSERT_TRUE(twin) << test::messages(twin.error());
  EXPECT_EQ(texts_of(*input), texts_of(*twin));
}

TEST(Parquet, WhatDoesNotFitIsToldWithItsRow) {
  const TableRequest wanted = request_of(samples / "a-snappy-v1.parquet", base::SourceKind::parquet,
                                         {{"id", "id", {TypeKind::integer, 0}}, {"d", "d18", {TypeKind::decimal, 2}}});
  const auto input = read_source(wanted);
  ASSERT_FALSE(input);
  ASSERT_EQ(input.error().size(), 20U);
  EXPECT_EQ(input.error()[0].code, "JR-507");
  EXPECT_EQ(input.error()[0].place.line, 1U);
  EXPECT_NE(input.error()[0].message.find("row 1, column 'd18': found \"-99999999999999.9999\", expected a number with "
                                          "at most 2 digits after the point, in 64 bits for t.d"),
            std::string::npos)
      << input.error()[0].message;
  // They can be rejected, and the other rows stay whole.
  const test::TempFolder folder;
  auto rejects = Rejects::open(folder.path("bad.csv"));
  ASSERT_TRUE(rejects);
  const auto rest = read_source(wanted, 2, &*rejects);
  ASSERT_TRUE(rest) << test::messages(rest.error());
  ASSERT_TRUE(rejects->close());
  EXPECT_LT(rest->rows, 270U);
  EXPECT_EQ(rest->rows + rest->sources[0].rejected, 270U);
  EXPECT_EQ(rest->rows, rest->sources[0].rows);
  const auto texts = texts_of(*rest);
  EXPECT_EQ(texts[0].size(), texts[1].size());
  EXPECT_NE(test::read_file(folder.path("bad.csv")).find(",1,\"column 'd18'"), std::string::npos);
}

TEST(Parquet, ListsAndMapsAreRefusedByName) {
  const fs::path file = samples / "../other/nested.parquet";
  const auto found = parquet_columns(file);
  ASSERT_TRUE(found) << test::messages(found.error());
  std::map<std::string, std::string> refusals;
  for (const ParquetColumn& column : *found) refusals[column.name] = column.refusal;
  EXPECT_EQ(refusals["id"], "");
  EXPECT_EQ(refusals["with \"quotes\""], "");
  EXPECT_EQ(refusals["tags.list.element"], "it is a list");
  EXPECT_EQ(refusals["deep.x.list.element"], "it is a list");
  EXPECT_EQ(refusals["marks.key_value.value"], "it is a map");
  EXPECT_EQ(refusals["span"], "it is an interval");
  const auto input = read_source(
      request_of(file, base::SourceKind::parquet,
                 {{"id", "id", {TypeKind::integer, 0}}, {"tag", "tags.list.element", {TypeKind::integer, 0}}}));
  ASSERT_FALSE(input);
  EXPECT_EQ(input.error()[0].code, "JR-518");
  EXPECT_NE(input.error()[0].message.find("the column 'tags.list.element' can't be read for t.tag: it is a list"),
            std::string::npos);
  // What is left can be read, and scanned.
  const test::TempFolder folder;
  fs::copy_file(file, folder.path("nested.parquet"));
  const auto scanned = scan({folder.path("nested.parquet")}, folder.path());
  ASSERT_TRUE(scanned) << test::messages(scanned.error());
  EXPECT_NE(scanned->text.find("# the column \"tags.list.element\" is not read: it is a list"), std::string::npos);
  folder.write("m.ridge", scanned->text);
  const auto loaded = load(folder.path("m.ridge"));
  ASSERT_TRUE(loaded) << scanned->text << test::messages(loaded.error());
}

TEST(Parquet, WordsForNullAreSaidBehindTheSource) {
  TableRequest wanted = request_of(samples / "../other/nan.parquet", base::SourceKind::parquet,
                                   {{"x", "x", {TypeKind::real, 0}}, {"t", "t", {TypeKind::text, 0}}});
  const auto without = read_source(wanted);
  ASSERT_FALSE(without);
  EXPECT_EQ(test::codes(without.error()), "JR-507");
  EXPECT_NE(without.error()[0].suggestion.find("(nulls \"NaN\")"), std::string::npos);
  wanted.place.spelling.nulls = {"NaN", "n/a"};
  const auto with = read_source(wanted);
  ASSERT_TRUE(with) << test::messages(with.error());
  using Texts = std::vector<std::string>;
  EXPECT_EQ(texts_of(*with), (std::vector<Texts>{{"'1.5'", "null", "null"}, {"'a'", "null", "null"}}));
  EXPECT_TRUE(Model::parse("m.ridge", "table a from parquet \"a\" (nulls (\"NaN\", \"-\")) { x integer }\n"));
  EXPECT_EQ(
      test::codes(Model::parse("m.ridge", "table a from parquet \"a\" (delimiter \";\") { x integer }\n").error()),
      "JR-110");
}

TEST(Parquet, MissingColumnsAreNamed) {
  const auto input =
      read_source(request_of(samples / "c-snappy.parquet", base::SourceKind::parquet,
                             {{"a", "manyy", {TypeKind::integer, 0}}, {"b", "st", {TypeKind::text, 0}}}));
  ASSERT_FALSE(input);
  EXPECT_EQ(test::codes(input.error()), "JR-505 JR-505");
  EXPECT_NE(input.error()[0].message.find("the file has no column 'manyy'"), std::string::npos);
  EXPECT_NE(input.error()[0].suggestion.find("\"many\""), std::string::npos);
}

// As `read`, for whatever stands in a file; what comes out must be an answer or an error with a place.
std::string state_of(const fs::path& file, const std::vector<ColumnRequest>& columns) {
  const auto found = parquet_columns(file);
  const auto input = read_source(request_of(file, base::SourceKind::parquet, columns));
  if (input) return "read";
  for (const Diagnostic& error : input.error()) {
    EXPECT_TRUE(error.code.starts_with("JR-5")) << error.code << error.message;
    EXPECT_FALSE(error.message.empty());
  }
  return input.error()[0].code;
}

TEST(Parquet, DamagedFilesAreToldAndReadNowhereElse) {
  const test::TempFolder folder;
  test::Random random(test::test_seed(99));
  for (const std::string name : {"c-snappy.parquet", "b-delta-v2.parquet", "a-zstd-v2.parquet", "c-encodings.parquet",
                                 "b-zstd-pages-v2.parquet", "a-brotli-v1.parquet"}) {
    const std::string whole = test::read_file((samples / name).string());
    const std::vector<ColumnRequest> columns = requested(*parquet_columns(samples / name));
    const fs::path file = folder.path("x.parquet");
    std::map<std::string, int> states;
    const auto look = [&](const std::string& bytes) {
      folder.write("x.parquet", bytes);
      ++states[state_of(file, columns)];
    };
    const std::size_t cases = test::test_count(test::is_sanitized ? 60 : 150);
    for (std::size_t i = 0; i < cases; ++i) look(whole.substr(0, test::pick(random, whole.size())));
    EXPECT_EQ(states["read"], 0) << name;
    for (std::size_t i = 0; i < cases; ++i) {
      std::string bytes = whole;
      for (std::size_t n = 1 + test::pick(random, 3); n > 0; --n)
        bytes[test::pick(random, bytes.size())] = static_cast<char>(test::pick(random, 256));
      look(bytes);
    }
    // In the description, where every number leads somewhere.
    for (std::size_t i = 0; i < cases; ++i) {
      std::string bytes = whole;
      std::uint32_t length = 0;
      std::memcpy(&length, bytes.data() + bytes.size() - 8, sizeof(length));
      bytes[bytes.size() - 8 - 1 - test::pick(random, length)] = static_cast<char>(test::pick(random, 256));
      look(bytes);
    }
    EXPECT_GT(states["JR-517"], 0) << name;
  }
}

TEST(Parquet, LoadsBesideCsvAndIsReadAgainOnlyWhereItChanged) {
  const test::TempFolder folder;
  fs::create_directory(folder.path("data"));
  fs::copy_file(samples / "a-zstd-v1.parquet", folder.path("data/p-1.parquet"));
  fs::copy_file(samples / "a-snappy-v1.parquet", folder.path("data/p-2.parquet"));
  fs::copy_file(samples / "twin.csv", folder.path("twin.csv"));
  const std::string columns =
      "{ id integer  i64 integer  few text  day date  ts datetime  d9 decimal(2)  a integer from \"st.a\"  "
      "twice = d9 * 2 }\n";
  folder.write("m.ridge", "table p from parquet \"data/p-*.parquet\" " + columns + "table c from csv \"twin.csv\" " +
                              columns + "measure np = count(p)\nmeasure nc = count(c)\n");
  const auto first = load(folder.path("m.ridge"));
  ASSERT_TRUE(first) << test::messages(first.error());
  EXPECT_EQ(first->tables[0].rows, 540U);
  EXPECT_EQ(first->tables[0].files_read, 2U);
  const auto dataset = Dataset::open(folder.path("m.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  const auto of = [&](const std::string& table, const std::string& expression) {
    return test::answer(*dataset, "show x = " + fmt::format(fmt::runtime(expression), table));
  };
  for (const std::string expression : {"max(ts for {})", "min(few for {})", "count(distinct a for {})",
                                       "count(distinct few for {})", "max(twice for {})", "min(day for {})"})
    EXPECT_EQ(of("p", expression), of("c", expression)) << expression;
  EXPECT_EQ(of("p", "count({})"), "540");
  const Question question{"by p.few show s = sum(d9 for p), n = count(p)"};
  const auto from_files = ask_files(dataset->model(), question);
  ASSERT_TRUE(from_files) << test::messages(from_files.error());
  EXPECT_EQ(test::answer_difference(ask(*dataset, question), from_files), "");
  fs::copy_file(samples / "a-gzip-v1.parquet", folder.path("data/p-3.parquet"));
  const auto second = load(folder.path("m.ridge"));
  ASSERT_TRUE(second) << test::messages(second.error());
  EXPECT_EQ(second->tables[0].files_read, 1U);
  EXPECT_EQ(second->tables[0].rows, 810U);
}

}  // namespace
}  // namespace juniper::source
