// Fields in other spellings than ours: each gives the value of its twin in ours, in two readers, or is told.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/describe.h"
#include "random/random_model.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::spelling_test {
namespace {

using test::chance;
using test::pick;
using test::Random;

const std::string columns =
    "{ key id integer  n integer  d decimal(3)  r real  day date  at datetime  of date from date(\"at\")  t text }\n";

// A number as a source with these marks would write it.
std::string spelled(const std::string& number, char decimal, char thousands, Random& random) {
  std::string out = number;
  const std::size_t point = std::min(out.find('.'), out.size());
  if (point < out.size()) out[point] = decimal;
  const std::size_t first = number.starts_with('-') ? 1 : 0;
  if (thousands != '\0' && chance(random, 70)) {
    for (std::size_t at = point; at > first + 3; at -= 3) out.insert(at - 3, 1, thousands);
  }
  return out;
}

TEST(Spelling, EveryFieldGivesTheValueOfItsTwin) {
  Random random(test::test_seed(77));
  struct Options {
    std::string text;
    char delimiter, decimal, thousands;
    std::string null;
    std::string date;  // with {0} the year, {1} the month, {2} the day
  };
  for (const Options& options : {
           Options{R"(delimiter ";", decimal ",", thousands ".", nulls ("NA", "-"), dates "dd.MM.yyyy")", ';', ',', '.',
                   "NA", "{2:02}.{1:02}.{0:04}"},
           Options{R"(dates "M/d/yyyy", thousands " ")", ',', '.', ' ', "", "{1}/{2}/{0:04}"},
           Options{R"(nulls "n/a", dates "yyyyMMdd", delimiter "\t")", '\t', '.', '\0', "n/a", "{0:04}{1:02}{2:02}"},
           Options{R"(decimal ",", delimiter "|", thousands "'")", '|', ',', '\'', "", "{0:04}-{1:02}-{2:02}"},
       }) {
    std::string theirs = "id,n,d,r,day,at,t\n";
    std::replace(theirs.begin(), theirs.end(), ',', options.delimiter);
    std::string ours = "id,n,d,r,day,at,t\n";
    for (int i = 0; i < 400; ++i) {
      const auto add = [&](const std::string& here, const std::string& there, bool last = false) {
        const bool null = chance(random, 12);
        ours += (null ? "" : here) + (last ? "\n" : ",");
        theirs += null ? (chance(random, 50) ? options.null : "") : there;
        theirs += last ? '\n' : options.delimiter;
      };
      ours += std::to_string(i) + ",";
      theirs += std::to_string(i) + options.delimiter;
      const auto number = [&](const std::string& text) {
        add(text, spelled(text, options.decimal, options.thousands, random));
      };
      const auto whole = static_cast<std::int64_t>(random() % 4'000'000) - 2'000'000;
      number(std::to_string(chance(random, 20) ? whole % 1000 : whole));
      number(fmt::format("{}.{:03}", whole % 70'000, random() % 1000));
      number(fmt::format("{}.{}", whole, random() % 100));
      const int year = 1900 + static_cast<int>(pick(random, 200));
      const int month = 1 + static_cast<int>(pick(random, 12));
      const int day = 1 + static_cast<int>(pick(random, 28));
      const std::string time = fmt::format(" {:02}:{:02}:{:02}", pick(random, 24), pick(random, 60), pick(random, 60));
      const std::string date = fmt::format("{:04}-{:02}-{:02}", year, month, day);
      const std::string their_date = fmt::format(fmt::runtime(options.date), year, month, day);
      add(date, their_date);
      add(date + time, their_date + time);
      add(fmt::format("x{}", i % 9), fmt::format("x{}", i % 9), true);
    }
    const test::SmallModel model("table a from csv \"a.csv\" (" + options.text + ") " + columns +
                                     "table b from csv \"b.csv\" " + columns +
                                     "measure na = count(a)\nmeasure nb = count(b)\n",
                                 {{"a.csv", theirs}, {"b.csv", ours}});
    const Dataset dataset = model.open();
    const auto rows = [&](const std::string& table) {
      return test::answer(dataset,
                          fmt::format("by {0}.id show max(n for {0}) as n, max(d for {0}) as d, max(r for {0}) as r, "
                                      "max(day for {0}) as day, max(at for {0}) as at, max(of for {0}) as o, "
                                      "max(t for {0}) as t keep empty",
                                      table));
    };
    EXPECT_EQ(rows("a"), rows("b")) << options.text;
    const Question question{
        "by a.day show sum(n for a) as n, sum(d for a) as d, max(at for a) as at, count(t for a) as c"};
    EXPECT_EQ(test::answer_difference(ask(dataset, question), ask_files(dataset.model(), question)), "")
        << options.text;
  }
}

TEST(Spelling, WhatIsSpelledOtherwiseIsTold) {
  const auto codes = [](const std::string& options, const std::string& type, const std::string& field) {
    const test::SmallModel model(
        "table a from csv \"a.csv\" (" + options + ") { x " + type + " }\nmeasure n = count(a)\n",
        {{"a.csv", "x\n" + field + "\n"}});
    const auto loaded = load(model.path());
    return loaded ? std::string("read") : test::codes(loaded.error());
  };
  const std::string german = "delimiter \";\", decimal \",\", thousands \".\"";
  EXPECT_EQ(codes(german, "decimal(2)", "1.234,50"), "read");
  EXPECT_EQ(codes(german, "decimal(2)", "-1.234.567,5"), "read");
  for (const std::string wrong :
       {"1.23,50", "1234.567,5", ".123,5", "1.234.56", "1,234.50", "1,5,0", "1..234", "1.234.", ","})
    EXPECT_EQ(codes(german, "decimal(2)", wrong), "JR-507") << wrong;
  EXPECT_EQ(codes("delimiter \";\", decimal \",\"", "decimal(2)", "1.5"), "JR-507");
  EXPECT_EQ(codes("delimiter \";\", decimal \",\"", "real", "1,5e3"), "read");
  const std::string dates = "dates \"dd.MM.yyyy\"";
  EXPECT_EQ(codes(dates, "date", "01.02.2024"), "read");
  EXPECT_EQ(codes(dates, "datetime", "01.02.2024 10:30"), "read");
  for (const std::string wrong :
       {"1.2.2024", "31.02.2024", "01.02.24", "01.02.20245", "2024-02-01", "01.02.2024 ", "01/02/2024"})
    EXPECT_EQ(codes(dates, "date", wrong), "JR-507") << wrong;
  EXPECT_EQ(codes("nulls (\"NA\", \"-\")", "integer", "NA"), "read");
  EXPECT_EQ(codes("nulls (\"NA\", \"-\")", "integer", "\"NA\""), "JR-507");  // in quotes it is a text
  EXPECT_EQ(codes("nulls \"NA\"", "integer", "na"), "JR-507");
}

// What two readers that share nothing make of a file.
std::string both(const std::string& options, const std::string& column, const std::string& file) {
  const test::SmallModel model(
      "table a from csv \"a.csv\" " + options + " { key id integer " + column + " }\nmeasure n = count(a)\n",
      {{"a.csv", file}});
  const auto dataset = Dataset::open(model.path());
  if (!dataset) return dataset.error()[0].code;
  const Question question{"by a.id show max(x for a) as x keep empty"};
  const auto answer = ask(*dataset, question);
  EXPECT_EQ(test::answer_difference(answer, ask_files(dataset->model(), question)), "") << file;
  std::string text;
  for (const ResultRow& row : answer->rows)
    text +=
        (text.empty() ? "" : " ") + (row.cells[1].is_null() ? "null" : to_text(row.cells[1], answer->columns[1].type));
  return text;
}

TEST(Spelling, TimesWithZonesAreReadInUtc) {
  const std::string file =
      "id,x\n1,2025-03-01T08:30:00Z\n2,2025-03-01T08:30:00+02:00\n3,2025-03-01 00:30:00.5-0530\n"
      "4,2025-03-01T08:30:00.1234560Z\n5,2025-03-01T08:30+01\n6,2025-03-01 08:30:00 +00:00\n7,2025-03-01T08:30:00\n";
  EXPECT_EQ(
      both("", "x datetime", file),
      "2025-03-01 08:30:00 2025-03-01 06:30:00 2025-03-01 06:00:00.5 2025-03-01 08:30:00.123456 2025-03-01 07:30:00 "
      "2025-03-01 08:30:00 2025-03-01 08:30:00");
  EXPECT_EQ(both("", "x date from date(\"x\")", "id,x\n1,2025-03-01T01:30:00+02:00\n"), "2025-02-28");
  for (const std::string wrong :
       {"2025-03-01T08:30:00z1", "2025-03-01T08:30:00+25:00", "2025-03-01T08:30:00+2", "2025-03-01T08:30:00+02:0x",
        "2025-03-01T08:30:00.1234567Z", "2025-03-01Z", "2025-03-01T08:30:00+", "2025-03-01T08:30:00+02:60"})
    EXPECT_EQ(both("", "x datetime", "id,x\n1," + wrong + "\n"), "JR-507") << wrong;
}

TEST(Spelling, WordsForTrueAndFalse) {
  EXPECT_EQ(both("(booleans (\"yes\", \"no\"), nulls \"-\")", "x boolean", "id,x\n1,yes\n2,no\n3,-\n4,\"yes\"\n"),
            "true false null true");
  for (const std::string wrong : {"Yes", "true", "1", "n"})
    EXPECT_EQ(both("(booleans (\"yes\", \"no\"))", "x boolean", "id,x\n1," + wrong + "\n"), "JR-507") << wrong;
  EXPECT_EQ(both("(booleans (\"1\", \"0\"))", "x boolean", "id,x\n1,1\n2,0\n"), "true false");
}

TEST(Spelling, OtherEncodings) {
  EXPECT_EQ(both("(encoding \"windows-1252\")", "x text", "id,x\n1,M\xFChle\n2,\x80 5\n"), "Mühle € 5");
  // UTF-16 tells itself, in both orders of bytes.
  const std::string text = "id,x\n1,Mill\n2,\"a,b\"\n";
  for (const bool low_first : {true, false}) {
    std::string wide = low_first ? "\xFF\xFE" : "\xFE\xFF";
    for (const char c : text) wide += low_first ? std::string{c, '\0'} : std::string{'\0', c};
    EXPECT_EQ(both("", "x text", wide), "Mill a,b");
  }
  // Characters across the borders of pieces.
  std::string large = "id,x\n";
  for (int i = 1; i <= 60'000; ++i) large += std::to_string(i) + ",\xE4\xF6\xFC" + std::to_string(i) + "\n";
  const test::SmallModel model(
      "table a from csv \"a.csv\" (encoding \"ISO-8859-1\") { key id integer x text }\nmeasure n = count(a)\n",
      {{"a.csv", large}});
  EXPECT_EQ(test::answer(model.open(), "show n, min(x for a) as l, max(x for a) as m"), "60000|äöü1|äöü9999");
  EXPECT_EQ(both("(encoding \"UTF-16LE\")", "x text", "id,x\n1,a\n2"), "JR-505");
  EXPECT_EQ(both("(encoding \"us-ascii\")", "x text", "id,x\n1,\xFC\n"), "JR-509");
}

TEST(Spelling, LinesAboveTheHeadersAreSkipped) {
  EXPECT_EQ(both("(skip 2)", "x text", "Sessions of the network\n\"made, today\n\nid,x\n1,a\n"), "JR-505");
  EXPECT_EQ(both("(skip 3)", "x text", "Sessions of the network\n\"made, today\n\nid,x\n1,a\n"), "a");
  const test::SmallModel model("table a from csv \"a.csv\" (skip 2) { key id integer }\nmeasure n = count(a)\n",
                               {{"a.csv", "one\ntwo\nid\n1\nx\n"}});
  const Diagnostics errors = model.errors();
  ASSERT_EQ(test::codes(errors), "JR-507");
  EXPECT_EQ(errors[0].place.line, 5U);
  EXPECT_EQ(both("(skip 9)", "x text", "id,x\n1,a\n"), "JR-505");
}

TEST(Spelling, OptionsAreCheckedAndDescribed) {
  const auto codes = [](const std::string& options) {
    const auto model = Model::parse("m.ridge", "table a from csv \"a.csv\" " + options + " { x integer }\n");
    return model ? std::string("parsed") : test::codes(model.error());
  };
  EXPECT_EQ(codes(R"((delimiter ";", decimal ",", thousands ".", nulls ("", "-"), dates "d.M.yyyy"))"), "parsed");
  EXPECT_EQ(codes(R"((thousands ".", decimal ","))"), "parsed");
  for (const std::string wrong :
       {R"((thousands "."))", R"((decimal ",,"))", R"((decimal "1"))", R"((dates "dd.MM.yy"))",
        R"((dates "dd.dd.yyyy"))", R"((dates "dM.yyyy.M"))", R"((dates "dMyyyy"))", R"((delimiter "\n"))"})
    EXPECT_EQ(codes(wrong), "JR-112") << wrong;
  EXPECT_EQ(codes(R"((decimals ","))"), "JR-110");
  EXPECT_EQ(codes(R"((booleans ("yes", "no"), encoding "windows-1252", skip 3))"), "parsed");
  EXPECT_EQ(codes(R"((booleans ("yes", "yes")))"), "JR-112");
  EXPECT_EQ(codes(R"((encoding "nonsense"))"), "JR-112");
  EXPECT_EQ(codes(R"((skip 0))"), "JR-110");
  EXPECT_EQ(codes(R"(())"), "JR-110");
  const auto model =
      Model::parse("m.ridge", R"(table a from csv "a.csv" (delimiter "\t", nulls "NA", decimal ",") { x integer }
measure n = count(a))");
  ASSERT_TRUE(model) << test::messages(model.error());
  EXPECT_EQ((*describe(*model, "a"))[0].definition,
            "from csv a.csv (delimiter \"\\t\", decimal \",\", nulls (\"NA\"))");
}

}  // namespace
}  // namespace juniper::spelling_test
