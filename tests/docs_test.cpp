// The documents and the code tell the same.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <set>
#include <sstream>
#include <utility>

#include "base/source_place.h"
#include "engine/query/ask.h"
#include "juniper/export.h"
#include "support/postgresql.h"
#include "support/support.h"

namespace juniper::docs_test {
namespace {

namespace fs = std::filesystem;
const fs::path root = JUNIPER_SOURCE_DIR;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

// Every JR- with three digits behind it.
std::set<std::string> codes_in(const std::string& text) {
  std::set<std::string> codes;
  for (std::size_t at = text.find("JR-"); at != std::string::npos; at = text.find("JR-", at + 1)) {
    const std::string code = text.substr(at, 6);
    if (code.size() == 6 && std::all_of(code.begin() + 3, code.end(), is_digit)) codes.insert(code);
  }
  return codes;
}

// The targets of a page's links, those to other places on the network and to parts of a page left out.
std::vector<std::string> links_in(const std::string& text) {
  std::vector<std::string> targets;
  for (std::size_t at = text.find("]("); at != std::string::npos; at = text.find("](", at + 1)) {
    const std::string target = text.substr(at + 2, text.find(')', at) - at - 2);
    if (target.find_first_of(":#") == std::string::npos) targets.push_back(target);
  }
  return targets;
}

TEST(Docs, EveryErrorCodeIsListedAndMade) {
  std::set<std::string> made;
  for (const char* folder : {"src", "demo", "tool"}) {
    for (const auto& entry : fs::recursive_directory_iterator(root / folder)) {
      if (entry.path().extension() == ".cpp") made.merge(codes_in(test::read_file(entry.path())));
    }
  }
  EXPECT_EQ(codes_in(test::read_file(root / "docs/errors.md")), made);
}

// The folders of a listing that stand so many blanks deep, behind a line that begins with `head`, in their order.
std::vector<std::string> folders_below(const std::string& page, const std::string& head, std::size_t depth) {
  std::vector<std::string> folders;
  std::istringstream lines(page.substr(page.find("\n" + head) + 1));
  std::string line;
  std::getline(lines, line);
  while (std::getline(lines, line)) {
    const std::size_t begin = line.find_first_not_of(' ');
    if (begin < depth) break;
    const std::size_t end = line.find("/ ", begin);
    if (begin == depth && end != std::string::npos) folders.push_back(line.substr(begin, end - begin));
  }
  return folders;
}

// Demands that files of each folder include none of the folders behind it.
void expect_order(const std::string& parent, const std::vector<std::string>& folders) {
  ASSERT_GT(folders.size(), 5U) << parent;
  std::set<std::string> unlisted;
  for (const auto& entry : fs::directory_iterator(root / "src" / parent)) {
    if (entry.is_directory()) unlisted.insert(entry.path().filename().string());
  }
  for (std::size_t f = 0; f < folders.size(); ++f) {
    unlisted.erase(folders[f]);
    for (const auto& entry : fs::recursive_directory_iterator(root / "src" / parent / folders[f])) {
      if (!entry.is_regular_file()) continue;
      const std::string text = test::read_file(entry.path());
      for (std::size_t above = f + 1; above < folders.size(); ++above) {
        EXPECT_EQ(text.find("#include \"" + parent + folders[above] + "/"), std::string::npos)
            << entry.path() << " includes " << folders[above] << ", which stands behind " << folders[f];
      }
    }
  }
  EXPECT_TRUE(unlisted.empty()) << "not in docs/architecture.md: " << ::testing::PrintToString(unlisted);
}

TEST(Docs, EachFolderIncludesOnlyThoseAboveIt) {
  const std::string page = test::read_file(root / "docs/architecture.md");
  expect_order("", folders_below(page, "src/", 2));
  expect_order("engine/", folders_below(page, "  engine/", 4));
}

// Faults that are planted to test the tests (scripts/faults): each names a text that stands in its file.
TEST(Docs, EachPlantedFaultHasItsPlace) {
  const std::string faults = test::read_file(root / "tests/faults/faults.txt");
  std::size_t count = 0;
  for (std::size_t at = faults.find("\n== "); at != std::string::npos; at = faults.find("\n== ", at + 1)) {
    const std::size_t file = faults.find("\nfile ", at) + 6;
    const std::size_t was = faults.find("\n--- was\n", at);
    const std::size_t is = faults.find("\n--- is\n", at);
    ASSERT_LT(file, was);
    ASSERT_LT(was, is);
    const std::string path = faults.substr(file, was - file);
    const std::string text = faults.substr(was + 9, is - was - 9);
    EXPECT_NE(test::read_file(root / path).find(text), std::string::npos) << text << "\nis not in " << path;
    ++count;
  }
  EXPECT_GE(count, 120U);
}

TEST(Docs, LinksLeadToFiles) {
  for (const char* name : {"README.md", "CONTRIBUTING.md", "docs/architecture.md", "docs/store.md", "docs/baseline.md",
                           "docs/language.md", "docs/audit.md", "docs/sources.md"}) {
    const std::string text = test::read_file(root / name);
    EXPECT_FALSE(text.empty()) << name;
    for (const std::string& target : links_in(text)) {
      EXPECT_TRUE(fs::exists((root / name).parent_path() / target)) << name << " links to " << target;
    }
  }
}

// The code block of a page that begins with some text.
std::string block_of(const std::string& page, const std::string& beginning) {
  const std::string text = test::read_file(root / page);
  const std::size_t begin = text.find("```\n" + beginning) + 4;
  return text.substr(begin, text.find("```", begin) - begin);
}

TEST(Docs, TheExamplesOfTheLanguageCheck) {
  for (const auto& [page, beginning] :
       {std::pair{"docs/language.md", "model \""}, std::pair{"README.md", "table sessions"}}) {
    const auto model = Model::parse("example.ridge", block_of(page, beginning));
    EXPECT_TRUE(model) << page << "\n" << test::messages(model.error());
  }
}

// The code blocks of a page whose first line says what they are: "query", "column sessions", "wrong JR-401".
std::vector<std::pair<std::string, std::string>> labelled_blocks(const std::string& page) {
  const std::string text = test::read_file(root / page);
  std::vector<std::pair<std::string, std::string>> blocks;
  for (std::size_t at = text.find("```"); at != std::string::npos; at = text.find("```", at + 3)) {
    const std::size_t line = text.find('\n', at);
    const std::size_t end = text.find("```", line);
    const std::string label = text.substr(at + 3, line - at - 3);
    if (!label.empty()) blocks.emplace_back(label, text.substr(line + 1, end - line - 1));
    at = end;
  }
  return blocks;
}

TEST(Docs, EveryExampleOfASourceLoads) {
  const test::TempFolder folder;
  fs::copy(root / "demo/small/data", folder.path("data"), fs::copy_options::recursive);
  fs::copy(root / "tests/source/parquet/network", folder.path("data"), fs::copy_options::recursive);
  fs::copy(root / "tests/source/spreadsheet/network", folder.path("data"), fs::copy_options::recursive);
  // The bays of the demo as Arrow.
  folder.write("bays.ridge",
               "table bays from csv \"data/bays.csv\" { key bay_id integer  station_id integer  connector text  max_kw "
               "integer }\nmeasure n = count(bays)\n");
  ExportSettings as_arrow;
  as_arrow.form = FileForm::arrow;
  ASSERT_TRUE(export_tables(*Dataset::open(folder.path("bays.ridge")), folder.path("arrow"), as_arrow));
  fs::copy(folder.path("arrow/bays.arrow"), folder.path("data"));
  folder.write("data/cards.jsonl",
               "{\"card_id\": 7, \"owner\": {\"kind\": \"private\"}, \"issued\": \"2025-03-01\"}\n");
  const std::string tables =
      "create table crews (crew text); insert into crews values ('a'), ('b'); create table stations "
      "(station_id integer, name text, region text); insert into stations values (1, 'x', 'Coast');";
  ASSERT_EQ(test::run_shell("sqlite3 data/charging.sqlite \"" + tables + "\"", folder.path()).status, 0);
  test::Postgresql server;
  ASSERT_EQ(server.problem(), "");
  server.run({tables});
  // Where the servers of the examples are here.
  const std::map<std::string, std::string> places{
      {"service=charging", server.place()},
      {"DSN=charging", "Driver=libsqlite3odbc.so;Database=" + folder.path("data/charging.sqlite")}};
  std::set<std::string> kinds;
  for (auto [label, block] : labelled_blocks("docs/sources.md")) {
    ASSERT_EQ(label, "model");
    for (const auto& [name, place] : places) {
      if (const std::size_t at = block.find(name); at != std::string::npos) block.replace(at, name.size(), place);
    }
    folder.write("example.ridge", block);
    const auto loaded = load(folder.path("example.ridge"));
    ASSERT_TRUE(loaded) << block << test::messages(loaded.error());
    for (const TableLoad& table : loaded->tables) EXPECT_GT(table.rows, 0U) << block;
    for (std::size_t at = block.find(" from "); at != std::string::npos; at = block.find(" from ", at + 1)) {
      const std::string kind = block.substr(at + 6, block.find(' ', at + 6) - at - 6);
      if (base::source_kind(kind)) kinds.insert(kind);
    }
  }
  const auto loaded_kinds = std::count_if(base::source_kinds.begin(), base::source_kinds.end(), base::can_be_loaded);
  EXPECT_EQ(kinds.size(), static_cast<std::size_t>(loaded_kinds));
}

TEST(Docs, EveryExampleOfTheLanguageRuns) {
  const test::TempFolder folder;
  fs::copy(root / "demo/small", folder.path("d"), fs::copy_options::recursive);
  const std::string model = test::read_file(folder.path("d/charging.ridge"));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  std::size_t run = 0;
  for (const auto& [label, block] : labelled_blocks("docs/language.md")) {
    ++run;
    if (label == "query") {
      const auto answer = ask(*dataset, {block});
      ASSERT_TRUE(answer) << block << test::messages(answer.error());
      EXPECT_TRUE(std::any_of(answer->rows.begin(), answer->rows.end(), [](const ResultRow& row) {
        return !row.cells.back().is_null();
      })) << block;
    } else if (label.starts_with("column ")) {
      std::string text = model;
      const std::size_t table = text.find("table " + label.substr(7) + " ");
      text.insert(text.find("\n}", table) + 1, "  " + block);
      const auto changed = Model::parse("example.ridge", text);
      EXPECT_TRUE(changed) << block << test::messages(changed.error());
    } else if (label == "model") {
      const auto changed = Model::parse("example.ridge", model + block);
      EXPECT_TRUE(changed) << block << test::messages(changed.error());
    } else {
      ASSERT_TRUE(label.starts_with("wrong ")) << label;
      const auto wrong = Model::parse("example.ridge", block);
      ASSERT_FALSE(wrong) << block;
      EXPECT_EQ(test::codes(wrong.error()), label.substr(6)) << test::messages(wrong.error());
    }
  }
  EXPECT_GE(run, 14U);
}

// The codes of errors and warnings of a declaration, or of a query's clauses, in a model.
std::string codes_of(const std::string& model, const std::string& text) {
  static const std::set<std::string> declarations{"measure", "table", "link", "param", "calendar", "query", "reader"};
  if (declarations.contains(text.substr(0, text.find(' ')))) {
    const auto changed = Model::parse("errors.ridge", model + text + "\n");
    return changed ? "" : test::codes(changed.error());
  }
  const auto asked = engine::prepare(*Model::parse("errors.ridge", model), {text});
  return test::codes(asked ? asked->warnings : asked.error());
}

// The text of a table's cell that is code, or "".
std::string code_in(std::string cell) {
  const std::size_t begin = cell.find('`');
  const std::size_t end = cell.rfind('`');
  if (begin == end) return "";
  cell = cell.substr(begin + 1, end - begin - 1);
  for (std::size_t at = cell.find("\\|"); at != std::string::npos; at = cell.find("\\|", at)) cell.erase(at, 1);
  return cell;
}

TEST(Docs, EachErrorHasAWrongAndARightText) {
  const auto blocks = labelled_blocks("docs/errors.md");
  ASSERT_EQ(blocks.size(), 1U);
  const std::string& model = blocks[0].second;
  std::istringstream lines(test::read_file(root / "docs/errors.md"));
  std::size_t run = 0;
  for (std::string line; std::getline(lines, line);) {
    if (!line.starts_with("| JR-")) continue;
    std::vector<std::string> cells;
    std::string cell;
    for (std::size_t i = 2; i < line.size(); ++i) {
      if (line[i] == '|' && line[i - 1] != '\\') {
        cells.push_back(std::exchange(cell, ""));
      } else {
        cell += line[i];
      }
    }
    if (cells.size() != 4 || code_in(cells[2]).empty()) continue;
    const std::string code = cells[0].substr(0, 6);
    const std::string found = codes_of(model, code_in(cells[2]));
    EXPECT_EQ(found.substr(0, 6), code) << code_in(cells[2]);
    EXPECT_EQ(codes_of(model, code_in(cells[3])), "") << code_in(cells[3]);
    ++run;
  }
  EXPECT_GE(run, 45U);
}

}  // namespace
}  // namespace juniper::docs_test
