// Spreadsheets as other programs write them (tests/source/spreadsheet/samples, made by writers/write.mjs): each gives the
// values of its twin in CSV, and none that is damaged or claims too much does more than say so.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <zip.h>

#include <filesystem>

#include "juniper/scan.h"
#include "source/read_source.h"
#include "source/spreadsheet/spreadsheet.h"

namespace juniper::source {
namespace {

namespace fs = std::filesystem;
using test::read_source;
using test::request_of;
using test::texts_of;

const fs::path sheet_samples = fs::path(JUNIPER_SOURCE_DIR) / "tests/source/spreadsheet/samples";

std::vector<fs::path> sheet_files() {
  std::vector<fs::path> files;
  for (const auto& entry : fs::directory_iterator(sheet_samples)) {
    if (entry.path().extension() != ".csv") files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  return files;
}

base::SourcePlace place_of(const fs::path& file) {
  base::SourcePlace place;
  place.kind = file.extension() == ".ods" ? base::SourceKind::ods : base::SourceKind::xlsx;
  if (file.stem() == "a-titled") place.selection = {base::Selection::Kind::sheet, "Sessions"};
  return place;
}

std::vector<ColumnRequest> columns_of(const fs::path& file) {
  std::vector<ColumnRequest> columns{{"i", "id", {TypeKind::integer, 0}},     {"n", "name", {TypeKind::text, 0}},
                                     {"a", "amount", {TypeKind::decimal, 2}}, {"l", "large", {TypeKind::integer, 0}},
                                     {"f", "flag", {TypeKind::boolean, 0}},   {"e", "nothing", {TypeKind::text, 0}}};
  if (file.stem() == "b-simple") return columns;
  columns.push_back({"d", "day", {TypeKind::date, 0}});
  columns.push_back({"t", "at", {TypeKind::datetime, 0}});
  columns.push_back({"c", "time", {TypeKind::time, 0}});
  columns.push_back({"p", "at", {TypeKind::date, 0}, base::FieldPart::date});
  columns.push_back({"q", "at", {TypeKind::time, 0}, base::FieldPart::time});
  columns.push_back({"r", "amount", {TypeKind::decimal, 1}, base::FieldPart::round});
  return columns;
}

TEST(Spreadsheet, EverySampleGivesTheValuesOfItsTwin) {
  const std::vector<fs::path> files = sheet_files();
  ASSERT_GE(files.size(), 9U);
  for (const fs::path& file : files) {
    const std::vector<ColumnRequest> columns = columns_of(file);
    const auto twin = read_source(request_of(sheet_samples / "twin.csv", base::SourceKind::csv, columns));
    ASSERT_TRUE(twin) << test::messages(twin.error());
    const auto expected = texts_of(*twin);
    for (const unsigned threads : {1U, 3U}) {
      const auto input = read_source(request_of(file, place_of(file), columns), threads);
      ASSERT_TRUE(input) << test::messages(input.error());
      const auto texts = texts_of(*input);
      for (std::size_t c = 0; c < columns.size(); ++c) EXPECT_EQ(texts[c], expected[c]) << file << columns[c].header;
    }
  }
}

// Spreadsheets hold doubles: one that goes on behind 15 digits is what it was, as a real.
TEST(Spreadsheet, RealsKeepAllDigits) {
  const std::vector<ColumnRequest> columns{{"s", "share", {TypeKind::real, 0}}};
  const auto twin = texts_of(*read_source(request_of(sheet_samples / "twin.csv", base::SourceKind::csv, columns)));
  for (const char* const file : {"a-plain.xlsx", "a-streamed.xlsx", "b.xlsx", "b-simple.ods"})
    EXPECT_EQ(texts_of(*read_source(request_of(sheet_samples / file, place_of(file), columns))), twin) << file;
}

TEST(Spreadsheet, PlacesAreRowsOfTheSheet) {
  const fs::path file = sheet_samples / "a-titled.xlsx";
  const auto input = read_source(request_of(file, place_of(file), {{"n", "name", {TypeKind::integer, 0}}}));
  ASSERT_FALSE(input);
  // Above the headers stand a title, a blank row, and a note.
  EXPECT_GE(input.error()[0].place.line, 5U);
  EXPECT_TRUE(input.error()[0].message.starts_with(fmt::format("row {}, 'name': found", input.error()[0].place.line)));
  std::vector<std::uint64_t> rows{0, 1, 239};
  const auto places = locate_rows(request_of(file, place_of(file), {{"i", "id", {TypeKind::integer, 0}}}), rows);
  ASSERT_EQ(places.size(), 3U);
  EXPECT_EQ(places[0].line, 5U);
  EXPECT_EQ(places[2].line, 244U);
}

TEST(Spreadsheet, SheetsAreChosenByName) {
  const fs::path file = sheet_samples / "a-titled.xlsx";
  const std::vector<ColumnRequest> columns{{"i", "id", {TypeKind::integer, 0}}};
  base::SourcePlace place{base::SourceKind::xlsx, "", {}, ',', {}};
  EXPECT_NE(test::messages(read_source(request_of(file, place, columns)).error()).find("has 2 sheets: Sessions, Notes"),
            std::string::npos);
  place.selection = {base::Selection::Kind::sheet, "Session"};
  const auto wrong = read_source(request_of(file, place, columns));
  EXPECT_EQ(test::codes(wrong.error()), "JR-520");
  place.selection.text = "Notes";
  EXPECT_EQ(test::codes(read_source(request_of(file, place, columns)).error()), "JR-505");
  EXPECT_EQ(sheet_names(base::SourceKind::xlsx, file).value(), (std::vector<std::string>{"Sessions", "Notes"}));
}

// A spreadsheet of parts that are given.
void write_archive(const std::string& path, const std::vector<std::pair<std::string, std::string>>& parts) {
  fs::remove(path);
  int error = 0;
  zip_t* const archive = zip_open(path.c_str(), ZIP_CREATE, &error);
  ASSERT_NE(archive, nullptr);
  for (const auto& [name, text] : parts)
    zip_file_add(archive, name.c_str(), zip_source_buffer(archive, text.data(), text.size(), 0), ZIP_FL_ENC_UTF_8);
  ASSERT_EQ(zip_close(archive), 0);
}

std::vector<std::pair<std::string, std::string>> workbook(const std::string& sheet, const std::string& texts = "<sst/>",
                                                          const std::string& styles = "<styleSheet/>") {
  const std::string of = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
  return {
      {"_rels/.rels", "<Relationships><Relationship Id='a' Type='" + of +
                          "/officeDocument' Target='xl/workbook.xml'/></Relationships>"},
      {"xl/workbook.xml", "<workbook xmlns:r='" + of + "'><sheets><sheet name='One' r:id='s'/></sheets></workbook>"},
      {"xl/_rels/workbook.xml.rels", "<Relationships><Relationship Id='s' Type='" + of +
                                         "/worksheet' Target='/xl/s.xml'/>"
                                         "<Relationship Id='t' Type='" +
                                         of +
                                         "/sharedStrings' Target='t.xml'/>"
                                         "<Relationship Id='u' Type='" +
                                         of + "/styles' Target='u.xml'/></Relationships>"},
      {"xl/s.xml", sheet},
      {"xl/t.xml", texts},
      {"xl/u.xml", styles}};
}

std::string read_workbook(const std::vector<std::pair<std::string, std::string>>& parts,
                          Type type = {TypeKind::text, 0}) {
  const test::TempFolder folder;
  write_archive(folder.path("t.xlsx"), parts);
  const auto input = read_source(request_of(folder.path("t.xlsx"), base::SourceKind::xlsx, {{"a", "a", type}}));
  if (!input) return test::codes(input.error()) + " " + input.error()[0].message;
  std::string text;
  const auto columns = texts_of(*input);
  for (const std::string& value : columns[0]) text += (text.empty() ? "" : " ") + value;
  return text;
}

TEST(Spreadsheet, CellsOfEveryFormAreRead) {
  const std::string header = "<worksheet><sheetData><row><c t='inlineStr'><is><t>a</t></is></c></row>";
  const std::string end = "</sheetData></worksheet>";
  const std::string styles =
      "<styleSheet><numFmts><numFmt numFmtId='170' formatCode='[$-407]d. mmmm yyyy;@'/><numFmt numFmtId='171' "
      "formatCode='\"day \"0'/><numFmt numFmtId='172' formatCode='[h]:mm'/><numFmt numFmtId='173' "
      "formatCode='yyyy\\-mm\\-dd\\ hh:mm'/></numFmts><cellStyleXfs><xf numFmtId='14'/></cellStyleXfs><cellXfs><xf "
      "numFmtId='0'/><xf numFmtId='14'/><xf numFmtId='170'/><xf numFmtId='171'/><xf numFmtId='172'/><xf "
      "numFmtId='173'/><xf numFmtId='21'/></cellXfs></styleSheet>";
  const auto cells = [&](const std::string& rows) {
    return workbook(header + rows + end,
                    "<sst><si><t>x</t></si><si><r><t>y</t></r><r><t> z</t></r><rPh><t>no</t></rPh></si></sst>", styles);
  };
  EXPECT_EQ(read_workbook(
                cells("<row r='2'><c r='A2' t='s'><v>0</v></c></row><row r='5'><c r='A5' t='s'><v>1</v></c></row>")),
            "'x' 'y z'");
  EXPECT_EQ(
      read_workbook(cells("<row><c t='str'><f>B1</f><v>of a formula</v></c></row><row><c t='e'><v>#N/A</v></c></row>"
                          "<row><c t='b'><v>1</v></c></row><row><c><v>1.5</v></c></row><row><c><v>1E3</v></c></row>"
                          "<row><c t='d'><v>2025-03-01T08:30:00Z</v></c></row><row><c t='str'><v></v></c><c "
                          "r='C7'><v>1</v></c></row>")),
      "'of a formula' '#N/A' 'true' '1.5' '1000' '2025-03-01T08:30:00' null");
  EXPECT_EQ(
      read_workbook(cells(
          "<row><c s='1'><v>45717</v></c></row><row><c s='2'><v>45717</v></c></row><row><c s='3'><v>45717</v></c></row>"
          "<row><c s='4'><v>1.5</v></c></row><row><c s='5'><v>45717.354166666664</v></c></row>"
          "<row><c s='6'><v>0.354166666666667</v></c></row><row><c s='1'><v>61</v></c></row><row><c "
          "s='1'><v>60</v></c></row>"
          "<row><c s='1'><v>59</v></c></row><row><c s='1'><v>-1</v></c></row><row><c "
          "s='1'><v>2958465</v></c></row><row><c s='1'><v>1e300</v></c></row>")),
      "'2025-03-01' '2025-03-01' '45717' '1.5' '2025-03-01 08:30:00' '08:30:00' '1900-03-01' '60' '1900-02-28' '-1' "
      "'9999-12-31' '1e+300'");
  EXPECT_EQ(read_workbook(cells("<row><c><v>0.30000000000000004</v></c></row><row><c><v>-12.10</v></c></row>"),
                          {TypeKind::decimal, 2}),
            "'0.30' '-12.10'");
  // What is no spreadsheet, or claims what it can't have.
  EXPECT_EQ(read_workbook(cells("<row><c t='s'><v>7</v></c></row>")).substr(0, 6), "JR-520");
  EXPECT_EQ(read_workbook(cells("<row><c r='ZZZZZZ2'><v>7</v></c></row>")).substr(0, 6), "JR-520");
  EXPECT_EQ(read_workbook(cells("<row r='99999999999'><c><v>7</v></c></row>")).substr(0, 6), "JR-520");
  EXPECT_EQ(read_workbook(cells("<row r='1'><c><v>7</v></c></row>")).substr(0, 6), "JR-520");
  EXPECT_EQ(read_workbook(workbook("<worksheet>")).substr(0, 6), "JR-520");
  EXPECT_EQ(read_workbook(workbook("<worksheet/>")).substr(0, 6), "JR-505");
  EXPECT_EQ(read_workbook(workbook("<!DOCTYPE x [<!ENTITY a 'aaaa'>]><worksheet>&a;</worksheet>")).substr(0, 6),
            "JR-520");
  EXPECT_EQ(read_workbook({{"mimetype", "x"}}).substr(0, 6), "JR-520");
}

// Archives that are small and claim very much: each is told, in little memory.
TEST(Spreadsheet, BombsAreTold) {
  const std::string header = "<worksheet><sheetData><row><c t='inlineStr'><is><t>a</t></is></c></row>";
  const std::string much(std::size_t{64} << 20, 'x');
  EXPECT_EQ(read_workbook(workbook(header + "</sheetData></worksheet>", "<sst><si><t>" + much + "</t></si></sst>"))
                .substr(0, 6),
            "JR-520");
  EXPECT_EQ(read_workbook(workbook(header + "<row><c t='str'><v>" + much + "</v></c></row></sheetData></worksheet>"))
                .substr(0, 6),
            "JR-520");
  const test::TempFolder folder;
  const auto ods = [&](const std::string& rows) {
    write_archive(folder.path("t.ods"), {{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"},
                                         {"content.xml",
                                          "<d><spreadsheet><table name='T'><table-row><table-cell "
                                          "value-type='string'><p>a</p></table-cell></table-row>" +
                                              rows + "</table></spreadsheet></d>"}});
    const auto input =
        read_source(request_of(folder.path("t.ods"), base::SourceKind::ods, {{"a", "a", {TypeKind::text, 0}}}));
    return input ? std::to_string(input->rows) : test::codes(input.error());
  };
  EXPECT_EQ(ods("<table-row number-rows-repeated='1048570'><table-cell/></table-row>"), "0");
  EXPECT_EQ(ods("<table-row number-rows-repeated='1000'><table-cell value-type='float' value='1'/></table-row>"),
            "1000");
  EXPECT_EQ(ods("<table-row number-rows-repeated='99999999999'><table-cell value-type='float' value='1'/></table-row>"),
            "JR-520");
  EXPECT_EQ(
      ods("<table-row><table-cell number-columns-repeated='99999999999' value-type='float' value='1'/></table-row>"),
      "JR-520");
  EXPECT_EQ(ods("<table-row><table-cell value-type='string'><p>" + much + "</p></table-cell></table-row>"), "JR-520");
  EXPECT_EQ(ods("<table-row><table-cell "
                "value-type='string'><annotation><p>note</p></annotation><p>x</p></table-cell></table-row>"),
            "1");
}

TEST(Spreadsheet, DamageIsTold) {
  std::mt19937_64 random(test::test_seed(17));
  const test::TempFolder folder;
  for (const char* const name : {"c.xlsx", "c.ods"}) {
    const std::string whole = test::read_file((sheet_samples / name).string());
    const auto try_it = [&](const std::string& bytes) {
      folder.write(name, bytes);
      const auto input = read_source(request_of(folder.path(name), place_of(name), columns_of(name)));
      EXPECT_TRUE(input || !test::messages(input.error()).empty());
      return input.has_value();
    };
    for (std::size_t i = 0; i < test::test_count(60); ++i)
      EXPECT_FALSE(try_it(whole.substr(0, random() % whole.size())));
    for (std::size_t i = 0; i < test::test_count(150); ++i) {
      std::string changed = whole;
      changed[random() % changed.size()] = static_cast<char>(random());
      try_it(changed);
    }
  }
}

}  // namespace
}  // namespace juniper::source
