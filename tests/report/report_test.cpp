#include "juniper/report.h"

#include <gtest/gtest.h>

#include <array>
#include <nlohmann/json.hpp>

#include "base/shown_text.h"
#include "random/random_model.h"
#include "report/cells.h"
#include "report/comparisons.h"
#include "support/support.h"

namespace juniper::report_test {
namespace {

namespace cell = report_cells;

Report sample() {
  Table table{"things",
              InCsv::with_all,
              {{"name", "thing", false, Audience::all},
               {"bytes", "size", true, Audience::all},
               {"raw", "raw", false, Audience::programs}},
              {}};
  cell::compare_by(table, "bytes");
  table.rows.push_back({{cell::text("a|b"), cell::bytes(1'234'567), cell::text("x,\"y\"\n")}});
  table.rows.push_back({{cell::text("c"), cell::bytes(308'642), cell::text("z")}, false, Audience::all, 1});
  table.rows.push_back({{cell::text("größer"), Cell{}, cell::text("")}, true});
  Report report;
  report.blocks = {Fact{"total_bytes", "in all", cell::bytes(5)}, Heading{"Things"}, table, Paragraph{"That is all."},
                   Verbatim{"diff", "-a\n+b\n"}};
  return report;
}

TEST(Render, ForPeople) {
  EXPECT_EQ(render(sample()),
            "in all  5 B\n"
            "\n"
            "Things\n"
            "\n"
            "thing      size\n"
            "a|b     1.23 MB  ████████████\n"
            "  c      309 kB  ███\n"
            "größer\n"
            "\n"
            "That is all.\n"
            "-a\n"
            "+b\n");
  EXPECT_NE(render(sample(), {Format::terminal, Color::on}).find("\033[91m-a\033[0m"), std::string::npos);
}

TEST(Render, ForProgramsWithExactValues) {
  const auto json = nlohmann::json::parse(render(sample(), {Format::json, Color::off}));
  EXPECT_EQ(json["total_bytes"], 5);
  EXPECT_EQ(json["diff"], "-a\n+b\n");
  EXPECT_EQ(json["things"].size(), 3U);
  EXPECT_EQ(json["things"][0]["bytes"], 1234567);
  EXPECT_EQ(json["things"][0]["raw"], "x,\"y\"\n");
  EXPECT_FALSE(json["things"][0].contains("bar"));
  EXPECT_TRUE(json["things"][2]["bytes"].is_null());
  const std::string things = "name,bytes,raw\na|b,1234567,\"x,\"\"y\"\"\n\"\nc,308642,z\ngrößer,,\"\"\n";
  EXPECT_EQ(render(sample(), {Format::csv, Color::off}),
            "part,facts\ntotal_bytes,diff\n5,\"-a\n+b\n\"\n\npart,things\n" + things);
  EXPECT_EQ(render(sample(), {Format::csv, Color::off, true, "things"}), things);
  EXPECT_EQ(render(sample(), {Format::csv, Color::off, true, "facts"}), "total_bytes,diff\n5,\"-a\n+b\n\"\n");
}

TEST(Render, ForPages) {
  EXPECT_EQ(
      render(sample(), {Format::markdown, Color::off}),
      "- in all: 5 B\n\n## Things\n\n| thing | size |\n|---|---:|\n| a\\|b | 1.23 MB |\n| &nbsp;&nbsp;c | 309 kB |\n"
      "| **größer** |  |\n\nThat is all.\n\n```diff\n-a\n+b\n```\n");
  EXPECT_EQ(render(sample(), {Format::markdown, Color::off, true, "facts"}), "- in all: 5 B\n\n```diff\n-a\n+b\n```\n");
}

TEST(Render, AFenceIsLongerThanAnyWithin) {
  Report report;
  report.blocks = {Verbatim{"diff", "+```\n+````` x\033\n"}};
  EXPECT_EQ(render(report, {Format::markdown, Color::off}), "``````diff\n+```\n+````` x\\u{1b}\n``````\n");
}

Report of_texts(const std::vector<std::string>& texts) {
  Table table{"t", InCsv::with_all, {{"x", "x", false, Audience::all}, {"y", "y", true, Audience::all}}, {}};
  for (const std::string& text : texts) table.rows.push_back({{cell::text(text), cell::text("1")}});
  Report report;
  report.blocks = {std::move(table)};
  return report;
}

TEST(Render, ControlCharactersDoNotReachTheTerminal) {
  for (const Format format : {Format::terminal, Format::markdown}) {
    const std::string text = render(of_texts({"a\033[31mb\nc\x7F",
                                              "\xC2\x9B"
                                              "d",
                                              "e\u2028f", "g\xFFh\xE2\x80"}),
                                    {format, Color::off});
    for (const char* const harmful : {"\033", "\x7F", "\xC2", "\xE2", "\xFF"})
      EXPECT_EQ(text.find(harmful), std::string::npos) << text;
    const std::string escape = format == Format::markdown ? "\\\\" : "\\";
    for (const auto& [before, code, after] : std::vector<std::array<std::string, 3>>{{"a", "u{1b}", "[31mb"},
                                                                                     {"b", "n", "c"},
                                                                                     {"c", "u{7f}", ""},
                                                                                     {"", "u{9b}", "d"},
                                                                                     {"e", "u{2028}", "f"},
                                                                                     {"g", "xff", "h"},
                                                                                     {"h", "xe2", ""}})
      EXPECT_NE(text.find(before + escape + code + after), std::string::npos) << text;
  }
}

// Letters with marks of their own, wide letters, marks that join others, emoji: the next column stands below
// itself.
TEST(Render, ColumnsStandBelowEachOtherWhateverTheLetters) {
  EXPECT_EQ(render(of_texts({"größer", "e\u0301a", "充電", "a\u200Db", "🔌", "████"})),
            "x       y\n"
            "größer  1\n"
            "e\u0301a      1\n"
            "充電    1\n"
            "a\u200Db      1\n"
            "🔌      1\n"
            "████    1\n");
}

// Tables of drawn texts and figures in windows of drawn widths: no line is wider, and a text that goes on below lost
// nothing but blanks.
TEST(Render, TablesFitTheWindow) {
  const std::uint64_t seed = test::test_seed(20261207);
  test::Random random(seed);
  const std::vector<std::string> pieces{"a",    "über",    "充電", " ",      "  ", "sessions.",  "🔌", "e\u0301",
                                        "/x_y", "\033[1m", "\n",   "\u202e", "12", "long word ", "-", "…"};
  for (std::size_t round = 0; round < test::test_count(400); ++round) {
    Table table{"t", InCsv::with_all, {}, {}};
    const std::size_t columns = 1 + test::pick(random, 8);
    const auto text = [&](std::size_t most) {
      std::string drawn;
      for (std::size_t i = test::pick(random, most + 1); i > 0; --i) drawn += pieces[test::pick(random, pieces.size())];
      return drawn;
    };
    std::vector<bool> figures;
    for (std::size_t c = 0; c < columns; ++c) {
      figures.push_back(test::chance(random, 50));
      TableColumn column{"c", text(6), figures[c], Audience::all};
      column.gives_way = static_cast<std::uint8_t>(test::pick(random, 3));
      column.is_compared = figures[c] && test::chance(random, 30);
      table.columns.push_back(column);
    }
    std::vector<std::string> texts;
    for (std::size_t r = 1 + test::pick(random, 5); r > 0; --r) {
      TableRow row;
      row.depth = static_cast<std::uint32_t>(test::pick(random, 4));
      row.strong = test::chance(random, 20);
      for (std::size_t c = 0; c < columns; ++c) {
        row.cells.push_back(figures[c] ? cell::bytes(test::pick(random, 2'000'000'000)) : cell::text(text(25)));
        if (test::chance(random, 10)) row.cells.back() = {};
      }
      texts.push_back(row.cells[0].shown);
      table.rows.push_back(std::move(row));
    }
    const std::size_t width = 20 + test::pick(random, 120);
    RenderOptions options;
    options.width = width;
    const std::string shown = render(Report{{table, Paragraph{text(60)}, Heading{text(30)}, Verbatim{"v", text(60)},
                                             Fact{"f", "fact", cell::text(text(40))}}},
                                     options);
    for (std::size_t begin = 0; begin < shown.size();) {
      const std::size_t end = shown.find('\n', begin);
      EXPECT_LE(base::width_of(shown.substr(begin, end - begin)), width) << "seed " << seed << "\n" << shown;
      begin = end + 1;
    }
    for (std::string each : texts) {
      each = base::one_line(each);
      const auto without_blanks = [](const std::vector<std::string>& lines) {
        std::string all;
        for (const std::string& line : lines) {
          for (const char c : line) all += c == ' ' ? "" : std::string(1, c);
        }
        return all;
      };
      EXPECT_EQ(without_blanks(base::folded(each, width, width / 3)), without_blanks({each}));
    }
  }
}

// SQL and model texts in narrow windows mean the same: words stay, and what stands in quotes is not touched.
TEST(Render, CodeIsBrokenWhereItMeansTheSame) {
  EXPECT_EQ(folded_code("  SELECT a, 'one two three', b FROM \"long name here\" WHERE x = 'it''s y'\n", 25),
            "  SELECT a,\n      'one two three', b\n      FROM\n      \"long name here\"\n      WHERE x = 'it''s y'\n");
  EXPECT_EQ(folded_code("measure a = 1 # a comment that goes on\n", 20),
            "measure a = 1 # a\n    # comment that\n    # goes on\n");
  EXPECT_EQ(folded_code("SELECT 'one\ntwo three four five six' AS x, y, z\n", 16),
            "SELECT 'one\ntwo three four five six'\n    AS x, y, z\n");
  const std::uint64_t seed = test::test_seed(20261209);
  test::Random random(seed);
  const std::vector<std::string> pieces{"a",     "über ", " ",  "  ", "\"x y\"", "'o''p q'",
                                        "`n m`", "(",     ", ", "\\", "SELECT ", "\"a \\\" b\""};
  for (std::size_t round = 0; round < test::test_count(500); ++round) {
    std::string text;
    for (std::size_t i = test::pick(random, 30); i > 0; --i) text += pieces[test::pick(random, pieces.size())];
    // Between quotes all stays; elsewhere blanks and ends of lines are the same.
    const auto meaning = [](const std::string& code) {
      std::string all;
      char quote = 0;
      for (std::size_t i = 0; i < code.size(); ++i) {
        const char c = code[i];
        if (quote == 0 && (c == ' ' || c == '\n')) {
          if (!all.empty() && all.back() != ' ') all += ' ';
          continue;
        }
        all += c;
        if (quote == '"' && c == '\\' && i + 1 < code.size()) {
          all += code[++i];
        } else if (c == quote) {
          quote = 0;
        } else if (quote == 0 && (c == '"' || c == '\'' || c == '`')) {
          quote = c;
        }
      }
      while (all.ends_with(' ')) all.pop_back();
      return all;
    };
    const std::string folded = folded_code(text + "\n", 4 + test::pick(random, 30));
    EXPECT_EQ(meaning(folded), meaning(text)) << "seed " << seed << "\n" << text << "\n" << folded;
  }
}

class ResultReport : public testing::Test {
 protected:
  test::SmallModel model_{R"(table t from csv "t.csv" { g text  d date format "d MMM yyyy"  x decimal(2)  n integer }
measure s = sum(x for t) format "#,##0.00"
measure part = s / 3
query q "Sums" { by t.g, t.d show s, part, big = max(n for t) total t.g, grand })",
                          {{"t.csv", "g,d,x,n\na,2025-03-01,1234.50,9007199254740993\n,2025-03-02,-1,1\n"}}};
  QueryResult result_ = *ask(model_.open(), {"q", {}});
};

TEST_F(ResultReport, PeopleSeeFormatsAndTotals) {
  const std::string text = render(report(result_));
  EXPECT_NE(text.find("Sums"), std::string::npos);
  EXPECT_NE(text.find("a       1 Mar 2025  1,234.50      411.5  9007199254740993\na       total       1,234.50"),
            std::string::npos)
      << text;
  EXPECT_NE(text.find("(null)  2 Mar 2025     -1.00"), std::string::npos) << text;
  EXPECT_NE(text.find("\ntotal               1,233.50"), std::string::npos) << text;
}

TEST_F(ResultReport, ProgramsSeeLevelsAndExactValues) {
  EXPECT_EQ(render(report(result_), {Format::csv, Color::off}),
            "level,t.g,t.d,s,part,big\n"
            "detail,a,2025-03-01,1234.50,411.5,9007199254740993\n"
            "t.g,a,,1234.50,411.5,9007199254740993\n"
            "detail,,2025-03-02,-1.00,-0.3333333333333333,1\n"
            "t.g,,,-1.00,-0.3333333333333333,1\n"
            "grand,,,1233.50,411.1666666666667,9007199254740993\n");
  const std::string json = render(report(result_), {Format::json, Color::off});
  EXPECT_NE(json.find("\"s\": 1234.50, \"part\": 411.5, \"big\": 9007199254740993"), std::string::npos) << json;
  EXPECT_TRUE(nlohmann::json::accept(json));
}

// Row by row and in parts, of an answer that is longer than a part, and of one without rows.
TEST_F(ResultReport, AnAnswerIsRenderedAsItsDocumentIs) {
  QueryResult longer = result_;
  while (longer.rows.size() < 20000) longer.rows.insert(longer.rows.end(), result_.rows.begin(), result_.rows.end());
  QueryResult empty = result_;
  empty.rows.clear();
  for (const QueryResult& result : {longer, empty, result_}) {
    for (const Format format : {Format::terminal, Format::json, Format::csv, Format::markdown}) {
      for (const Color color : {Color::off, Color::on}) {
        std::string text;
        std::size_t longest = 0;
        render(result, {format, color}, [&](std::string_view part) {
          text += part;
          longest = std::max(longest, part.size());
        });
        EXPECT_TRUE(text == render(report(result), {format, color})) << text.substr(0, 500);
        EXPECT_LT(longest, 70000U);
      }
    }
  }
}

TEST_F(ResultReport, AColumnCalledLevelKeepsItsName) {
  const auto result = ask(model_.open(), {"by t.g as level show s", {}});
  ASSERT_TRUE(result);
  EXPECT_EQ(render(report(*result), {Format::csv, Color::off}), "level_,level,s\ndetail,a,1234.50\ndetail,,-1.00\n");
}

// What differs is shown as reports show it, and exactly, which is what tells two numbers apart.
TEST_F(ResultReport, DifferencesCarryTheFormatsOfTheirColumns) {
  QueryResult other = result_;
  ASSERT_EQ(other.rows[0].cells[2], Value::of(int128{123450}));
  other.rows[0].cells[2] = Value::of(int128{123451});
  Comparison compared = compare(result_, other);
  Table table = difference_table({{"q", compared}});
  ASSERT_EQ(table.rows.size(), 1U);
  EXPECT_EQ(table.rows[0].cells[4].shown, "1,234.50");
  EXPECT_EQ(table.rows[0].cells[5].shown, "1,234.51");
  EXPECT_EQ(table.rows[0].cells[5].exact, "1234.51");
  // A format that shows less stands beside the exact number.
  compared.samples[0].found_formatted = "1,235";
  table = difference_table({{"q", compared}});
  EXPECT_EQ(table.rows[0].cells[5].shown, "1,235 (1234.51)");
}

TEST_F(ResultReport, WeighingsAreSortedAndCut) {
  const Weighing weighing = weigh(model_.open()).value();
  const std::string names = render(report(weighing, {WeighOrder::name, 3}), {Format::csv, Color::off, true, "parts"});
  EXPECT_EQ(std::count(names.begin(), names.end(), '\n'), 4);
  EXPECT_LT(names.find("t,d,"), names.find("t,g,"));
  for (const WeighOrder order : {WeighOrder::bytes, WeighOrder::rows, WeighOrder::distinct, WeighOrder::nulls,
                                 WeighOrder::bits, WeighOrder::uses, WeighOrder::name}) {
    const std::string all = render(report(weighing, {order, 0}), {Format::csv, Color::off, true, "parts"});
    EXPECT_EQ(static_cast<std::size_t>(std::count(all.begin(), all.end(), '\n')),
              1 + weighing.columns.size() + weighing.links.size() + 1);
  }
  const auto json = nlohmann::json::parse(render(report(weighing), {Format::json, Color::off}));
  std::uint64_t sum = 0;
  for (const auto& part : json["parts"]) sum += part["total_bytes"].get<std::uint64_t>();
  EXPECT_EQ(sum, json["file_bytes"]);
}

TEST(RefactoringReport, TheVerdictTellsWhatAChangeIsWorthBothWays) {
  Refactoring refactoring;
  refactoring.ledger.bytes_before = {1000, 3000, 500, 500};
  refactoring.ledger.bytes_after = {500, 2000, 500, 500};
  refactoring.ledger.load_nanoseconds_before = 9'000'000;
  refactoring.ledger.load_nanoseconds_after = 7'000'000;
  const auto says = [&](const std::string& words) {
    const std::string text = render(report(refactoring));
    EXPECT_NE(text.find(words), std::string::npos) << words << "\n" << text;
  };
  says("Takes 1.50 kB off the file and saves 2.00 ms of each load; it reaches no known query: worth it.");
  QueryProof regions;
  regions.query = "regions";
  regions.is_timed = true;
  regions.speed.base_nanoseconds = 1'000'000;
  regions.speed.candidate_nanoseconds = 1'100'000;
  regions.speed.ratio = 1.1;
  refactoring.queries.push_back(regions);
  says("no query is slower or faster for certain: worth it.");
  refactoring.queries[0].speed.verdict = SpeedVerdict::slower;
  says(
      "costs 100 µs in 'regions', the most of all queries: worth it, unless 'regions' is asked more than 20 times for "
      "each load");
  refactoring.ledger.bytes_after.codes = 4000;
  says("Adds 500 B to the file");
  says("not worth it for bytes or time.");
  // What becomes much slower comes first, and is for nobody to call worth it.
  refactoring.queries[0].speed.candidate_nanoseconds = 9'000'000;
  refactoring.queries[0].speed.ratio = 9;
  says("Slower: 'regions' takes 9.0 times as long (9.00 ms instead of 1.00 ms). Adds 500 B to the file");
  says("look at what is slower first.");
  refactoring.queries[0].speed.candidate_nanoseconds = 500'000;
  refactoring.queries[0].speed.ratio = 0.5;
  refactoring.queries[0].speed.verdict = SpeedVerdict::faster;
  refactoring.ledger.load_nanoseconds_after = 12'000'000;
  says(
      "Adds 500 B to the file and adds 3.00 ms to each load; gains 500 µs in 'regions', the most of all: worth its "
      "bytes where 'regions' is asked more than 6 times for each load");
  says("+1.00 kB");  // of codes
}

}  // namespace
}  // namespace juniper::report_test
