#include <fmt/format.h>
#include <gtest/gtest.h>
#include <zlib.h>
#include <zstd.h>

#include <optional>
#include <random>
#include <set>

#include "base/exact.h"
#include "source/column_input.h"
#include "source/csv/records.h"
#include "source/source.h"
#include "store/column.h"
#include "support/support.h"

namespace juniper::source::csv_test {
namespace {

// A file as records, read in pieces of a few bytes: a record is never cut, whatever the size.
struct AllRecords {
  std::vector<std::vector<std::optional<std::string>>> records;  // null as nothing
  std::vector<std::uint32_t> lines;                              // from 1
  std::string code;                                              // of what ended the reading
  std::vector<std::string> bad;
};

AllRecords read_records(const std::string& path, char delimiter, std::size_t piece_bytes) {
  AllRecords all;
  auto pieces = CsvPieces::open(path, piece_bytes);
  if (!pieces) return {{}, {}, test::codes(pieces.error()), {}};
  std::string buffer;
  std::string scratch;
  CsvRecords records;
  std::uint32_t line = 1;
  std::size_t width = 0;
  while (all.code.empty()) {
    const auto text = pieces->next(buffer, delimiter);
    if (!text) return {{}, {}, test::codes(text.error()), {}};
    if (text->empty()) break;
    records.read(*text, delimiter, width);
    width = records.width();
    for (std::size_t row = 0; row < records.rows(); ++row) {
      all.lines.push_back(line + records.line_of(row));
      auto& record = all.records.emplace_back();
      for (std::size_t i = 0; i < width; ++i) {
        const Field& field = records.field(row, i);
        record.push_back(field.is_null() ? std::nullopt : std::optional(std::string(records.text(field, scratch))));
      }
    }
    for (const BadRecord& bad : records.bad_records())
      all.bad.push_back(fmt::format("{} {}", bad.code, line + bad.line));
    if (records.end()) all.code = records.end()->code;
    line += records.lines();
  }
  return all;
}

// The records of a text, as [a|b] with nulls as ~; the code of what ended the reading early.
std::string records(const std::string& text, char delimiter = ',') {
  const test::TempFolder folder;
  const std::string path = folder.write("t.csv", text);
  std::string out;
  for (const std::size_t piece_bytes : {1U, 7U, 1U << 20}) {
    const AllRecords all = read_records(path, delimiter, piece_bytes);
    std::string shown;
    for (const auto& record : all.records) {
      shown += "[";
      for (std::size_t i = 0; i < record.size(); ++i) shown += (i == 0 ? "" : "|") + record[i].value_or("~");
      shown += "]";
    }
    shown += all.code;
    for (const std::string& bad : all.bad) shown += " " + bad;
    EXPECT_TRUE(piece_bytes == 1 || shown == out) << "pieces of " << piece_bytes << ": " << shown << ", not " << out;
    out = shown;
  }
  return out;
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
                        Case{"a,b\n1,2\n3,4,\"x\n", "[a|b][1|2]JR-502"},
                        Case{"a,b\n3,4,\"x\"y\n", "[a|b]JR-502"},
                        Case{"a,b\n1", "[a|b] JR-506 2"},
                        Case{"a,b\n1,2\n\n3,4,5\n\"x\n\",6,\n7,8\n", "[a|b][1|2][7|8] JR-506 4 JR-506 5"},
                        Case{"a,b,c\n1,2,3\n\n\n4\n5,6,7,8,9\n", "[a|b|c][1|2|3] JR-506 5 JR-506 6"}}) {
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

// Records of all sizes, quoted or not, over the borders of pieces too, come back as they were written.
TEST(CsvReader, ReadsBackRandomRecords) {
  const std::uint64_t seed = test::test_seed(3);
  std::mt19937_64 random(seed);
  const test::TempFolder folder;
  for (const bool all_quoted : {true, false}) {
    const std::string alphabet = all_quoted ? "ab\",\n\r ;x" : "ab \"é;x";
    std::vector<std::vector<std::optional<std::string>>> written;
    std::string text;
    while (text.size() < (3U << 20)) {
      written.emplace_back();
      for (int f = 0; f < 3; ++f) {
        std::string field(random() % (random() % 200 == 0 ? 60000 : 9), ' ');
        for (char& c : field) c = alphabet[random() % alphabet.size()];
        const bool quoted = all_quoted || random() % 50 == 0 || field.starts_with('"');
        written.back().push_back(quoted || !field.empty() ? std::optional(field) : std::nullopt);
        text += (f == 0 ? "" : ",") + (quoted ? in_quotes(field) : field);
      }
      text += !all_quoted || random() % 2 == 0 ? "\n" : "\r\n";
    }
    const std::string path = folder.write("t.csv", text);
    for (const std::size_t piece_bytes : {100U, 70'000U, 1U << 21}) {
      const AllRecords all = read_records(path, ',', piece_bytes);
      ASSERT_EQ(all.code, "");
      ASSERT_TRUE(all.records == written) << "seed " << seed << ", pieces of " << piece_bytes;
      std::uint32_t line = 1;
      for (std::size_t i = 0; i < written.size(); ++i) {
        ASSERT_EQ(all.lines[i], line) << "seed " << seed;
        ++line;
        for (const auto& field : written[i]) {
          const std::string written_text = field.value_or("");
          line += static_cast<std::uint32_t>(std::count(written_text.begin(), written_text.end(), '\n'));
        }
      }
    }
  }
}

// What each set of instructions finds is what a loop over the bytes finds.
TEST(CsvReader, MarksAreFoundAtEveryPlace) {
  std::mt19937_64 random(test::test_seed(4));
  const std::string alphabet = "abc,\n\r\"\x80\xff;";
  for (std::size_t length = 0; length < 300; ++length) {
    std::string text(length, ' ');
    for (char& c : text) c = alphabet[random() % (length % 3 == 0 ? 4 : alphabet.size())];
    std::string padded = text + std::string(marks_overrun, '\n');
    Marks marks;
    find_marks(std::string_view(padded).substr(0, length), ',', marks);
    std::vector<std::uint32_t> expected;
    for (std::uint32_t i = 0; i < length; ++i) {
      if (std::string_view(",\n\r\"").find(text[i]) != std::string_view::npos) expected.push_back(i);
    }
    marks.places.resize(marks.count);
    ASSERT_EQ(marks.places, expected);
    ASSERT_EQ(marks.line_feeds, static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n')));
    ASSERT_EQ(marks.has_quotes, text.find('"') != std::string::npos);
    ASSERT_EQ(marks.has_returns, text.find('\r') != std::string::npos);
    ASSERT_EQ(marks.ascii, std::all_of(text.begin(), text.end(), [](char c) { return c >= 0; }));
  }
}

TableRequest request(const test::TempFolder& folder, const std::string& pattern, std::vector<ColumnRequest> columns) {
  return {"t", folder.path(), {base::SourceKind::csv, pattern, {}, ',', {}}, std::move(columns)};
}

Result<TableInput> read_all(const TableRequest& wanted, unsigned threads = 0, Rejects* rejects = nullptr) {
  const auto files = find_files(wanted);
  if (!files) return tl::unexpected(files.error());
  ReadSettings settings;
  settings.threads = threads;
  settings.rejects = rejects;
  return read_table(wanted, *files, settings);
}

// The values of a column, in order.
std::vector<Value> values_of(const ColumnInput& input) {
  const store::Column column = store::encode_column(input);
  std::vector<Value> values;
  for (std::size_t i = 0; i < column.rows; ++i) values.push_back(column.at(i));
  return values;
}

TEST(CsvTable, ReadsColumnsByTheirHeaderFromAllFiles) {
  const test::TempFolder folder;
  folder.write("p-2.csv", "name,id,more\nb,2,x\n,3,x\n");
  folder.write("p-1.csv", "id,name\n1,a\n");
  folder.write("other.csv", "id,name\n9,z\n");
  const auto table = read_all(
      request(folder, "p-*.csv", {{"id", "id", {TypeKind::integer, 0}}, {"label", "name", {TypeKind::text, 0}}}));
  ASSERT_TRUE(table) << test::messages(table.error());
  EXPECT_EQ(table->rows, 3U);
  const auto number = [](int n) { return Value::of(int128{n}); };
  EXPECT_EQ(values_of(table->columns[0]), (std::vector{number(1), number(2), number(3)}));
  EXPECT_EQ(values_of(table->columns[1]),
            (std::vector{Value::of(std::string("a")), Value::of(std::string("b")), Value()}));
  EXPECT_EQ(table->sources.size(), 2U);
  EXPECT_EQ(table->sources[1].rows, 2U);
  EXPECT_EQ(table->sources[0].hash, hash_file({}, folder.path("p-1.csv")));
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
    const auto table = read_all(request(folder, "t.csv", {{"x", "x", c.type}}));
    ASSERT_FALSE(table) << c.text;
    const Diagnostic& error = table.error().front();
    EXPECT_EQ(error.code, c.code) << c.text;
    EXPECT_EQ(error.place.line, c.line) << c.text;
    EXPECT_EQ(error.place.file, folder.path("t.csv"));
    EXPECT_NE(error.message.find(c.says), std::string::npos) << error.message;
  }
  EXPECT_EQ(test::codes(read_all(request(folder, "no.csv", {})).error()), "JR-504");
  EXPECT_EQ(test::codes(read_all(request(folder, "", {})).error()).substr(0, 5), "JR-50");
}

TEST(CsvTable, ListsTheFirstTwentyBadCells) {
  const test::TempFolder folder;
  std::string text = "x\n";
  for (int i = 0; i < 100; ++i) text += "bad\n";
  folder.write("t.csv", text);
  const auto table = read_all(request(folder, "t.csv", {{"x", "x", {TypeKind::integer, 0}}}));
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

// Values that fit and do not, of every type, in every form: what parse_value says is what a column gives.
TEST(CsvTable, CellsAreWhatTheirTypeReads) {
  std::mt19937_64 random(test::test_seed(11));
  const std::vector<std::string> parts{"0",
                                       "1",
                                       "9",
                                       "12",
                                       "-",
                                       "+",
                                       ".",
                                       ":",
                                       " ",
                                       "T",
                                       "2024-02-29",
                                       "2023-02-29",
                                       "0000-01-01",
                                       "9999-12-31",
                                       "08:30",
                                       "08:30:15",
                                       "23:59:59.125",
                                       "2024-02-28 07:08:09",
                                       "2024-02-28T07:08:09.",
                                       "true",
                                       "e5",
                                       "inf",
                                       "99999999",
                                       "123456789012345678",
                                       "\"\"",
                                       "é"};
  const std::vector<Type> types{{TypeKind::boolean, 0},  {TypeKind::integer, 0},  {TypeKind::decimal, 2},
                                {TypeKind::decimal, 18}, {TypeKind::real, 0},     {TypeKind::text, 0},
                                {TypeKind::date, 0},     {TypeKind::datetime, 0}, {TypeKind::time, 0}};
  const test::TempFolder folder;
  for (const Type type : types) {
    std::string good = "x\n";
    std::vector<Value> expected;
    std::set<std::string> bad;
    for (std::size_t i = 0; i < test::test_count(3000); ++i) {
      std::string cell;
      for (std::size_t n = random() % 5; n > 0; --n) cell += parts[random() % parts.size()];
      const bool null = cell.empty();
      const auto value = null ? std::optional(Value()) : parse_value(cell, type);
      const bool fits = value && (value->kind() != Value::Kind::exact || base::fits_int64(value->exact()));
      if (fits) {
        expected.push_back(*value);
        good += (null ? "" : in_quotes(cell)) + "\n";
        if (!null && cell.find('"') == std::string::npos) {
          good += cell + "\n";
          expected.push_back(*value);
        }
      } else if (bad.size() < 60) {
        bad.insert(cell);
      }
    }
    folder.write("t.csv", good);
    const auto table = read_all(request(folder, "t.csv", {{"x", "x", type}}));
    ASSERT_TRUE(table) << test::messages(table.error());
    ASSERT_EQ(values_of(table->columns[0]), expected) << to_string(type);
    for (const std::string& cell : bad) {
      folder.write("t.csv", "x\n" + in_quotes(cell) + "\n");
      ASSERT_EQ(test::codes(read_all(request(folder, "t.csv", {{"x", "x", type}})).error()), "JR-507") << cell;
    }
  }
}

TEST(CsvTable, PartsOfFieldsAreRead) {
  const test::TempFolder folder;
  folder.write("t.csv",
               "at,x\n2024-02-29 08:30:15,1.005\n2024-02-29T23:59:59,-1.005\n,\n2024-01-31 00:00:00.000001,2\n"
               "0001-01-01 00:00:00,-0.004999999999999999\n");
  const auto table = read_all(request(folder, "t.csv",
                                      {{"day", "at", {TypeKind::date, 0}, base::FieldPart::date},
                                       {"time", "at", {TypeKind::time, 0}, base::FieldPart::time},
                                       {"at", "at", {TypeKind::datetime, 0}},
                                       {"x", "x", {TypeKind::decimal, 2}, base::FieldPart::round},
                                       {"n", "x", {TypeKind::integer, 0}, base::FieldPart::round}}));
  ASSERT_TRUE(table) << test::messages(table.error());
  const auto shown = [&](std::size_t c) {
    std::string list;
    for (const Value& value : values_of(table->columns[c])) list += to_text(value, table->columns[c].type) + " ";
    return list;
  };
  EXPECT_EQ(shown(0), "2024-02-29 2024-02-29  2024-01-31 0001-01-01 ");
  EXPECT_EQ(shown(1), "08:30:15 23:59:59  00:00:00.000001 00:00:00 ");
  EXPECT_EQ(shown(3), "1.01 -1.01  2.00 0.00 ");
  EXPECT_EQ(shown(4), "1 -1  2 0 ");
  folder.write("t.csv", "at,x\n2024-02-29,1\n2024-02-29 08:30:15,1.0000000000000000001\n");
  const auto bad = read_all(request(folder, "t.csv",
                                    {{"day", "at", {TypeKind::date, 0}, base::FieldPart::date},
                                     {"x", "x", {TypeKind::decimal, 2}, base::FieldPart::round}}));
  EXPECT_EQ(test::codes(bad.error()), "JR-507 JR-507");
  EXPECT_NE(test::messages(bad.error()).find("a datetime like"), std::string::npos);
}

// Many pieces, read by several threads: the same rows in the same order, the same errors, the same rejects.
TEST(CsvTable, ThreadsChangeNothing) {
  std::mt19937_64 random(test::test_seed(12));
  const test::TempFolder folder;
  std::string text = "id,name,code\n";
  std::string broken = text;
  for (int i = 0; i < 400'000; ++i) {
    const std::string line = fmt::format("{},{:016x},{}\n", i, random(), random() % 300);
    text += line;
    broken += i % 90'001 == 90'000 ? fmt::format("{},x\n{},y,\xff\nz,\"1\n2\",3\n", i, i) : line;
  }
  folder.write("good.csv", text);
  folder.write("broken.csv", broken);
  const std::vector<ColumnRequest> columns{{"id", "id", {TypeKind::integer, 0}},
                                           {"name", "name", {TypeKind::text, 0}},
                                           {"code", "code", {TypeKind::text, 0}}};
  std::vector<std::vector<Value>> first;
  std::string first_errors;
  std::string first_rejects;
  for (const unsigned threads : {1U, 2U, 5U}) {
    const auto table = read_all(request(folder, "good.csv", columns), threads);
    ASSERT_TRUE(table) << test::messages(table.error());
    std::vector<std::vector<Value>> values;
    for (const ColumnInput& column : table->columns) values.push_back(values_of(column));
    const auto failed = read_all(request(folder, "broken.csv", columns), threads);
    ASSERT_FALSE(failed);
    const std::string errors = test::messages(failed.error());
    auto rejects = Rejects::open(folder.path("rejects.csv"));
    const auto kept = read_all(request(folder, "broken.csv", columns), threads, &*rejects);
    ASSERT_TRUE(kept) << test::messages(kept.error());
    EXPECT_TRUE(rejects->close());
    EXPECT_EQ(kept->sources[0].rejected, 12U);
    EXPECT_EQ(kept->rows, 400'000U - 4);
    const std::string rejected = test::read_file(folder.path("rejects.csv"));
    if (threads == 1) {
      first = values;
      first_errors = errors;
      first_rejects = rejected;
      EXPECT_EQ(test::codes(failed.error()).substr(0, 20), "JR-506 JR-503 JR-507");
      EXPECT_EQ(failed.error().size(), 12U);
      EXPECT_NE(rejected.find("broken.csv\",90002,\"this record has 2 fields, and the header has 3\",\"90000,x\"\n"),
                std::string::npos)
          << rejected;
      // A record is written out as it stands in its file.
      EXPECT_NE(rejected.find("\"z,\"\"1\n2\"\",3\"\n"), std::string::npos) << rejected;
    }
    EXPECT_TRUE(values == first);
    EXPECT_EQ(errors, first_errors);
    EXPECT_EQ(rejected, first_rejects);
  }
}

std::string gzipped(const std::string& text) {
  z_stream stream{};
  deflateInit2(&stream, 6, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY);
  std::string out(deflateBound(&stream, text.size()), '\0');
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(text.data()));
  stream.avail_in = static_cast<uInt>(text.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  EXPECT_EQ(deflate(&stream, Z_FINISH), Z_STREAM_END);
  out.resize(stream.total_out);
  deflateEnd(&stream);
  return out;
}

std::string zstd_compressed(const std::string& text) {
  std::string out(ZSTD_compressBound(text.size()), '\0');
  out.resize(ZSTD_compress(out.data(), out.size(), text.data(), text.size(), 3));
  return out;
}

TEST(CsvTable, CompressedFilesAreReadAsTheyAre) {
  std::mt19937_64 random(test::test_seed(13));
  std::string text = "x\n";
  std::vector<Value> expected;
  for (int i = 0; i < 300'000; ++i) {
    expected.push_back(Value::of(static_cast<int128>(i % 3 == 0 ? 5 : static_cast<std::int64_t>(random() >> 20))));
    text += to_text(expected.back(), {TypeKind::integer, 0}) + "\n";
  }
  const test::TempFolder folder;
  const std::string half = text.substr(0, 1'000'003);
  for (const std::string& packed :
       {gzipped(text), gzipped(half) + gzipped(text.substr(half.size())), zstd_compressed(text),
        zstd_compressed(half) + zstd_compressed(text.substr(half.size()))}) {
    folder.write("t.csv", packed);
    const auto wanted = request(folder, "t.csv", {{"x", "x", {TypeKind::integer, 0}}});
    const auto table = read_all(wanted);
    ASSERT_TRUE(table) << test::messages(table.error());
    EXPECT_TRUE(values_of(table->columns[0]) == expected);
    EXPECT_EQ(table->bytes, packed.size());
    EXPECT_EQ(table->sources[0].hash, hash_file({}, folder.path("t.csv")));
    // Cut short or damaged, it is told.
    folder.write("t.csv", packed.substr(0, packed.size() - 5));
    EXPECT_EQ(test::codes(read_all(wanted).error()), "JR-509");
    std::string bad = packed;
    for (std::size_t i = packed.size() / 2; i < packed.size() / 2 + 40; ++i) bad[i] = static_cast<char>(~bad[i]);
    folder.write("t.csv", bad);
    const auto damaged = read_all(wanted);
    ASSERT_FALSE(damaged);
    EXPECT_NE(test::codes(damaged.error()).find("JR-50"), std::string::npos);
  }
}

}  // namespace
}  // namespace juniper::source::csv_test
