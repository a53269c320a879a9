// Values as texts and texts as values: in the engine, row by row, in SQLite and, where a server is there, in PostgreSQL.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "juniper/sql.h"
#include "support/postgresql.h"
#include "support/support.h"

namespace juniper::conversions_test {
namespace {

// A table of texts, one in each row, in the order of the list.
test::SmallModel of_texts(const std::vector<std::string>& texts, const std::string& more = "") {
  std::string csv = "id,t\n";
  for (std::size_t i = 0; i < texts.size(); ++i) csv += fmt::format("{},\"{}\"\n", i, texts[i]);
  return {"table notes from csv \"n.csv\" { key id integer  t text }\n" + more, {{"n.csv", csv}}};
}

// What an expression makes of each text, in every way of answering; all agree.
std::vector<std::string> made_of(const std::vector<std::string>& texts, const std::string& expression) {
  const Dataset dataset = of_texts(texts).open();
  Question question{"by notes.id show any_of = min(" + expression + " for notes) keep empty from notes"};
  const auto engine = ask(dataset, question);
  EXPECT_TRUE(engine.has_value()) << render(engine.error());
  if (!engine) return {};
  const auto agreement = against_sqlite(dataset, question);
  EXPECT_TRUE(agreement.has_value() && agreement->same()) << expression;
  question.plan = Plan::naive;
  EXPECT_EQ(test::rows_of(*ask(dataset, question)), test::rows_of(*engine)) << expression;
  std::vector<std::string> values;
  for (const ResultRow& row : engine->rows)
    values.push_back(row.cells[1].is_null() ? "null" : to_text(row.cells[1], engine->columns[1].type));
  return values;
}

const std::vector<std::string> numbers{"7",
                                       "-7",
                                       "+7",
                                       " 7 ",
                                       "007",
                                       "7.0",
                                       "7.50",
                                       "7.505",
                                       ".5",
                                       "7.",
                                       ".",
                                       "",
                                       "-",
                                       "1e2",
                                       "x7",
                                       "7 7",
                                       "1,000",
                                       "9223372036854775807",
                                       "9223372036854775808",
                                       "-9223372036854775808",
                                       "1e400",
                                       "1e-400",
                                       "0x10",
                                       "inf",
                                       "nan",
                                       "٣",
                                       "1_000",
                                       "--7",
                                       "7-",
                                       "0e5",
                                       "\t7"};

TEST(Conversions, NumbersOfTexts) {
  using Values = std::vector<std::string>;
  EXPECT_EQ(made_of(numbers, "integer(t)"), (Values{"7",    "-7",
                                                    "7",    "7",
                                                    "7",    "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "9223372036854775807",
                                                    "null", "-9223372036854775808",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null", "null",
                                                    "null"}));
  EXPECT_EQ(made_of(numbers, "decimal(t, 2)"),
            (Values{"7.00", "-7.00", "7.00", "7.00", "7.00", "7.00", "7.50", "null", "0.50", "7.00", "null",
                    "null", "null",  "null", "null", "null", "null", "null", "null", "null", "null", "null",
                    "null", "null",  "null", "null", "null", "null", "null", "null", "null"}));
  EXPECT_EQ(made_of(numbers, "real(t)"), (Values{"7",
                                                 "-7",
                                                 "7",
                                                 "7",
                                                 "7",
                                                 "7",
                                                 "7.5",
                                                 "7.505",
                                                 "0.5",
                                                 "7",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "100",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "9.223372036854776e+18",
                                                 "9.223372036854776e+18",
                                                 "-9.223372036854776e+18",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "null",
                                                 "0",
                                                 "null"}));
}

TEST(Conversions, DaysOfTexts) {
  using Values = std::vector<std::string>;
  const std::vector<std::string> texts{"2025-03-01",       "2025-02-29",
                                       "2024-02-29",       "0000-01-01",
                                       "9999-12-31",       "1.3.2025",
                                       "01.03.2025",       "31.04.2025",
                                       " 01.03.2025",      "01.03.25",
                                       "2025-03-01 08:30", "01.03.2025 08:30",
                                       "01.03.2025 24:00", "2025-03-01T08:30:15.25",
                                       "1.13.2025"};
  EXPECT_EQ(made_of(texts, "date(t)"), (Values{"2025-03-01", "null", "2024-02-29", "null", "9999-12-31", "null", "null",
                                               "null", "null", "null", "null", "null", "null", "null", "null"}));
  EXPECT_EQ(made_of(texts, "date(t, \"dd.MM.yyyy\")"),
            (Values{"null", "null", "null", "null", "null", "null", "2025-03-01", "null", "2025-03-01", "null", "null",
                    "null", "null", "null", "null"}));
  EXPECT_EQ(made_of(texts, "date(t, \"d.M.yyyy\")"),
            (Values{"null", "null", "null", "null", "null", "2025-03-01", "2025-03-01", "null", "2025-03-01", "null",
                    "null", "null", "null", "null", "null"}));
  const std::vector<std::string> marked{"01·03·2025",   "01/03/2025", "01^03^2025",
                                        "01\\03\\2025", "01 03 2025", "01032025"};
  EXPECT_EQ(made_of(marked, "date(t, \"dd·MM·yyyy\")"), (Values{"2025-03-01", "null", "null", "null", "null", "null"}));
  EXPECT_EQ(made_of(marked, "date(t, \"dd^MM^yyyy\")"), (Values{"null", "null", "2025-03-01", "null", "null", "null"}));
  EXPECT_EQ(made_of(marked, "date(t, \"dd\\\\MM\\\\yyyy\")"),
            (Values{"null", "null", "null", "2025-03-01", "null", "null"}));
  EXPECT_EQ(made_of(marked, "date(t, \"dd MM yyyy\")"), (Values{"null", "null", "null", "null", "2025-03-01", "null"}));
  EXPECT_EQ(made_of(marked, "date(t, \"ddMMyyyy\")"), (Values{"null", "null", "null", "null", "null", "2025-03-01"}));
  EXPECT_EQ(made_of(texts, "datetime(t)"),
            (Values{"null", "null", "null", "null", "null", "null", "null", "null", "null", "null",
                    "2025-03-01 08:30:00", "null", "null", "2025-03-01 08:30:15.25", "null"}));
  EXPECT_EQ(made_of(texts, "datetime(t, \"dd.MM.yyyy HH:mm\")"),
            (Values{"null", "null", "null", "null", "null", "null", "null", "null", "null", "null", "null",
                    "2025-03-01 08:30:00", "null", "null", "null"}));
}

// Whatever has an exact text is read back from it.
TEST(Conversions, ComeBack) {
  const test::SmallModel files{R"(table v from csv "v.csv" {
  key id integer  i integer  d decimal(3)  r real  b boolean  day date  at datetime  o time
}
)",
                               {{"v.csv",
                                 "id,i,d,r,b,day,at,o\n"
                                 "1,0,0.000,0,true,2025-03-01,2025-03-01 08:30:00,08:30:00\n"
                                 "2,-9223372036854775808,-9223372036854775.808,1e300,false,0001-01-01,"
                                 "0001-01-01 00:00:00.000001,00:00:00.5\n"
                                 "3,9223372036854775807,9223372036854775.807,-1.5e-7,true,9999-12-31,"
                                 "9999-12-31 23:59:59.999999,23:59:59\n4,,,,,,,\n"}}};
  const Dataset dataset = files.open();
  for (const auto& [read, column] :
       std::vector<std::pair<std::string, std::string>>{{"integer(text(i))", "i"},
                                                        {"decimal(text(d), 3)", "d"},
                                                        {"real(text(r))", "r"},
                                                        {"date(text(day))", "day"},
                                                        {"datetime(text(at))", "at"},
                                                        {"date(text(day, \"dd.MM.yyyy\"), \"dd.MM.yyyy\")", "day"},
                                                        {"date(text(day, \"yyyy/M/d\"), \"yyyy/M/d\")", "day"}}) {
    EXPECT_EQ(test::answer(dataset, fmt::format("show count(v where {} is distinct from {}) as n", read, column)), "0")
        << read;
  }
  EXPECT_EQ(test::answer(dataset, "by v.id show min(text(b) || \" \" || text(o) for v) as x"),
            "1|true 08:30:00\n2|false 00:00:00.5\n3|true 23:59:59");
  EXPECT_EQ(
      test::answer(dataset,
                   "by v.id show min(text(d, \"#,##0.0\") || \" \" || text(at, \"d MMM yyyy HH:mm\") for v) as x"),
      "1|0.0 1 Mar 2025 08:30\n2|-9,223,372,036,854,775.8 1 Jan 0001 00:00\n3|9,223,372,036,854,775.8 31 Dec 9999 "
      "23:59");
}

TEST(Conversions, TellHowManyTextsHaveNoValue) {
  const auto files = of_texts({"1", "n/a", "2", "n/a", "-", "3.5"},
                              "measure total = sum(integer(t) for notes)\n"
                              "measure twice = total * 2\n");
  const Dataset dataset = files.open();
  const auto answer = ask(dataset, {"show twice"});
  ASSERT_TRUE(answer.has_value());
  EXPECT_EQ(test::rows_of(*answer), "6");
  ASSERT_EQ(answer->warnings.size(), 1U);
  EXPECT_EQ(answer->warnings[0].code, "JR-526");
  EXPECT_EQ(answer->warnings[0].message, "4 rows of notes have a text that is no integer, and give null here: \"-\"");
  EXPECT_EQ(answer->warnings[0].place.line, 2U);
  // Those that the query leaves out are not counted, each conversion is told once, and keys and conditions are, too.
  EXPECT_TRUE(ask(dataset, {"show twice where notes.t in (\"1\", \"2\")"})->warnings.empty());
  EXPECT_EQ(ask(dataset, {"show twice, total where notes.t <> \"-\""})->warnings[0].message,
            "3 rows of notes have a text that is no integer, and give null here: \"3.5\"");
  EXPECT_EQ(ask(dataset, {"by decimal(notes.t, 0) as k show count(notes) as n where real(notes.t) > 0 from notes"})
                ->warnings.size(),
            2U);
  // Of stored columns the load tells.
  const auto stored = of_texts({"1", "x"}, "");
  stored.folder.write("model.ridge", "table notes from csv \"n.csv\" { key id integer  t text  n = integer(t) }\n");
  const auto loaded = load(stored.path(), {});
  ASSERT_TRUE(loaded.has_value());
  EXPECT_EQ(test::codes(loaded->warnings), "JR-526");
  // With --strict such a text is an error.
  Options strict;
  strict.reading.strict = true;
  const auto refused = ask(files.open(strict), {"show twice"});
  ASSERT_FALSE(refused.has_value());
  EXPECT_EQ(test::codes(refused.error()), "JR-526");
}

TEST(Conversions, SayWhatToWrite) {
  const Dataset dataset = of_texts({"1"}).open();
  for (const auto& [query, code, fix] : std::vector<std::tuple<std::string, std::string, std::string>>{
           {"show max(t || id for notes) as x", "JR-301", "write text(id)"},
           {"show count(notes where t = id) as x", "JR-302", "write integer(t), or declare the column as a number"},
           {"show count(notes where t > 1.5) as x", "JR-302",
            "write decimal(t, digits), or declare the column as a number"},
           {"show count(notes where t = today()) as x", "JR-302", "write date(t)"},
           {"show max(integer(id) for notes) as x", "JR-303", "write integer(text)"},
           {"show max(decimal(t) for notes) as x", "JR-303", "write decimal(text, digits)"},
           {"show max(decimal(t, 19) for notes) as x", "JR-303", "write decimal(text, digits)"},
           {"show max(decimal(t, id) for notes) as x", "JR-303", "write decimal(text, digits)"},
           {"show max(text(id, t) for notes) as x", "JR-303", "write text(value) or text(number or date, \"pattern\")"},
           {"show max(text(t, \"0.0\") for notes) as x", "JR-306",
            "patterns are Unicode's: \"#,##0.00\", \"0.0%\", \"d MMM yyyy\""},
           {"show max(date(t, \"dd.MM\") for notes) as x", "JR-306",
            "one day (d or dd), one month (M or MM) and one year (yyyy), and marks between them: \"dd.MM.yyyy\""},
           {"show max(datetime(t, \"dd.MM.yyyy\") for notes) as x", "JR-306",
            "a pattern of dates, a blank or T, and HH:mm or HH:mm:ss: \"dd.MM.yyyy HH:mm\""}}) {
    const auto answer = ask(dataset, {query});
    ASSERT_FALSE(answer.has_value()) << query;
    EXPECT_EQ(test::codes(answer.error()), code) << query;
    EXPECT_EQ(answer.error()[0].suggestion, fix) << query;
  }
}

}  // namespace
}  // namespace juniper::conversions_test
