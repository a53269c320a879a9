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
