// What every operator and function gives, by hand.
#include <gtest/gtest.h>

#include <cmath>

#include "juniper/ask.h"
#include "support/sqlite.h"
#include "support/support.h"

namespace juniper::expression_test {
namespace {

// Evaluates expressions as calculated columns of a table with one row (a second row has only nulls), and gives the
// texts of the first row.
std::vector<std::string> evaluate(const std::vector<std::string>& expressions, const Options& options = {}) {
  std::string text =
      R"(table t from csv "t.csv" { key id integer  i integer  n integer  d decimal(2)  big integer  r real  s text  e text  b boolean  day date  leap date  at datetime  tm time  none integer  nos text
)";
  for (std::size_t i = 0; i < expressions.size(); ++i)
    text += "  c" + std::to_string(i) + " = " + expressions[i] + "\n";
  text += "}\nquery q { show max(id for t) }";
  const test::SmallModel model(
      text,
      {{"t.csv",
        "id,i,n,d,big,r,s,e,b,day,leap,at,tm,none,nos\n"
        "1,7,-3,2.50,9000000000000000000,0.5,Grüße,\"\",true,2025-03-31,2024-02-29,2025-03-31 23:05:09.5,08:30:15,,\n"
        "2,,,,,,,,,,,,,,\n"}});
  const Dataset dataset = model.open(options);
  std::vector<std::string> values;
  for (std::size_t i = 0; i < expressions.size(); ++i)
    values.push_back(test::answer(dataset, "show min(c" + std::to_string(i) + " for t where id = 1)"));
  return values;
}

void expect_all(const std::vector<std::pair<std::string, std::string>>& cases) {
  std::vector<std::string> expressions;
  for (const auto& c : cases) expressions.push_back(c.first);
  const auto values = evaluate(expressions);
  for (std::size_t i = 0; i < cases.size(); ++i) EXPECT_EQ(values[i], cases[i].second) << cases[i].first;
}

TEST(Expression, ExactArithmetic) {
  expect_all({{"i + n", "4"},
              {"i - n", "10"},
              {"i * n", "-21"},
              {"d * d", "6.2500"},
              {"d + i", "9.50"},
              {"-d", "-2.50"},
              {"i / n", "-2.3333333333333335"},
              {"d / 2", "1.25"},
              {"i div n", "-2"},
              {"i mod n", "1"},
              {"n mod i", "-3"},
              {"n div i", "0"},
              {"i div 0", "null"},
              {"i mod 0", "null"},
              {"i / 0", "null"},
              {"d / (i - 7)", "null"},
              {"i div -1", "-7"},
              {"i mod -1", "0"},
              {"0.1 + 0.2", "0.3"},
              {"i + none", "null"},
              {"none * 0", "null"},
              {"- - i", "7"},
              {"2.5 * 2", "5.0"}});
}

TEST(Expression, OverflowIsNoErrorWhereItIsNotNeeded) {
  expect_all({{"big + big - big", "9000000000000000000"},
              {"(big * big) / big", "9e+18"},
              {"if i = 7 then 1 else big * big * big * big", "1"},
              {"coalesce(i, big * big * big * big)", "7"},
              {"(big * big * big * big) > 0 and false", "false"},
              {"none * (big * big * big * big)", "null"},
              {"(big * big * big * big) is null or true", "true"}});
}

TEST(Expression, WhatDoesNotFitIsAnErrorWithItsPlace) {
  const test::SmallModel model("table t from csv \"t.csv\" { x integer  y = x * x }\nquery q { show count(t) }",
                               {{"t.csv", "x\n1\n9000000000000000000\n"}});
  const Diagnostics errors = model.errors();
  EXPECT_EQ(test::codes(errors), "JR-704");
  EXPECT_NE(errors[0].message.find("row 2"), std::string::npos) << errors[0].message;
  EXPECT_NE(errors[0].message.find("t.csv:3"), std::string::npos) << errors[0].message;
}

TEST(Expression, Rounding) {
  expect_all({{"round(2.5)", "3"},           {"round(-2.5)", "-3"},
              {"round(d, 1)", "2.5"},        {"round(1.005, 2)", "1.01"},
              {"round(-1.005, 2)", "-1.01"}, {"round(1.004, 2)", "1.00"},
              {"round(i, -1)", "10"},        {"round(14, -1)", "10"},
              {"round(15.5, -1)", "20"},     {"floor(2.7)", "2"},
              {"floor(-2.1)", "-3"},         {"ceil(2.1)", "3"},
              {"ceil(-2.7)", "-2"},          {"trunc(-2.7)", "-2"},
              {"floor(-3)", "-3"},           {"round(r)", "1"},
              {"round(-0.5e0)", "-1"},       {"round(2.675e0, 2)", "2.68"},
              {"trunc(-2.7e0)", "-2"},       {"ceil(-0.5e0)", "0"},
              {"round(none)", "null"},       {"round(big, -18)", "9000000000000000000"}});
}

TEST(Expression, Numbers) {
  expect_all({{"abs(n)", "3"},
              {"abs(-2.5)", "2.5"},
              {"abs(-r)", "0.5"},
              {"sign(n)", "-1"},
              {"sign(0)", "0"},
              {"sign(r)", "1"},
              {"sqrt(16)", "4"},
              {"sqrt(n)", "null"},
              {"ln(0)", "null"},
              {"exp(0)", "1"},
              {"power(2, 10)", "1024"},
              {"power(-8, 0.5)", "null"},
              {"exp(1000)", "null"},
              {"least(i, n, d)", "-3.00"},
              {"greatest(i, none, n)", "7"},
              {"least(none, none)", "null"},
              {"greatest(s, \"A\")", "Grüße"},
              {"coalesce(none, n)", "-3"},
              {"coalesce(nos, s)", "Grüße"},
              {"coalesce(none, none)", "null"},
              {"r * 2", "1"},
              {"r / 2", "0.25"},
              {"i / r", "14"},
              {"d / r", "5"},
              {"r - i", "-6.5"},
              {"r + d", "3"},
              {"r / 0", "null"},
              {"1e300 * 1e300", "null"}});
}

TEST(Expression, ComparisonAndLogicWithNull) {
  expect_all({{"i > n", "true"},
              {"i <= 7", "true"},
              {"d = 2.5", "true"},
              {"d <> 2.50", "false"},
              {"r = 0.5", "true"},
              {"none = 1", "null"},
              {"none is null", "true"},
              {"i is not null", "true"},
              {"none is not distinct from null", "true"},
              {"none is distinct from 1", "true"},
              {"i is distinct from 7", "false"},
              {"i in (1, 7)", "true"},
              {"i in (1, none)", "null"},
              {"i in (7, none)", "true"},
              {"i not in (1, none)", "null"},
              {"none in (1)", "null"},
              {"i between 7 and 8", "true"},
              {"i not between 8 and 9", "true"},
              {"i between none and 3", "false"},
              {"i between none and 9", "null"},
              {"not (none = 1)", "null"},
              {"none = 1 or true", "true"},
              {"none = 1 and false", "false"},
              {"none = 1 and true", "null"},
              {"none = 1 or false", "null"},
              {"b", "true"},
              {"not b", "false"},
              {"s > \"Z\"", "false"},
              {"s = \"Grüße\"", "true"},
              {"e = \"\"", "true"},
              {"e is null", "false"},
              {"nos is null", "true"},
              {"day < leap", "false"},
              {"at > datetime \"2025-03-31 23:05:09\"", "true"}});
}

TEST(Expression, Choices) {
  expect_all({{"case when n > 0 then 1 when i > 0 then 2 else 3 end", "2"},
              {"case when none = 1 then 1 else 3 end", "3"},
              {"case when n > 0 then 1 end", "null"},
              {"case i when 7 then \"x\" else \"y\" end", "x"},
              {"case none when none then 1 else 2 end", "2"},
              {"if i > 1 then 1.5 else 2", "1.5"},
              {"if b then s else nos", "Grüße"},
              {"if not b then s", "null"},
              {"if none > 1 then 1 else 2", "2"}});
}

TEST(Expression, Texts) {
  expect_all({{"length(s)", "5"},
              {"upper(s)", "GRÜSSE"},
              {"lower(\"ÄB\")", "äb"},
              {"trim(\"  a b \")", "a b"},
              {"substring(s, 2, 3)", "rüß"},
              {"substring(s, 4)", "ße"},
              {"substring(s, 0, 2)", "G"},
              {"substring(s, 2, 0)", ""},
              {"substring(s, 2, -1)", ""},
              {"replace(s, \"ü\", \"ue\")", "Grueße"},
              {"replace(\"aaa\", \"a\", \"b\")", "bbb"},
              {"replace(s, \"\", \"x\")", "Grüße"},
              {"starts_with(s, \"Gr\")", "true"},
              {"ends_with(s, \"ße\")", "true"},
              {"contains(s, \"x\")", "false"},
              {"s || \"!\" || e", "Grüße!"},
              {"s || nos", "null"},
              {"s like \"Gr%e\"", "true"},
              {"s like \"Gr__e\"", "true"},
              {"s like \"gr%\"", "false"},
              {"s not like \"%z%\"", "true"},
              {"\"aXbXc\" like \"a%X%c\"", "true"},
              {"\"abc\" like \"a%b\"", "false"},
              {"e like \"%\"", "true"},
              {"e like \"_\"", "false"},
              {"nos like \"%\"", "null"}});
}

TEST(Expression, DatesAndTimes) {
  expect_all({{"year(day)", "2025"},
              {"quarter(day)", "1"},
              {"month(at)", "3"},
              {"day(leap)", "29"},
              {"weekday(day)", "1"},
              {"week(day)", "14"},
              {"week(date \"2021-01-03\")", "53"},
              {"week(date \"2024-12-30\")", "1"},
              {"hour(at)", "23"},
              {"minute(tm)", "30"},
              {"second(at)", "9"},
              {"date(at)", "2025-03-31"},
              {"time(at)", "23:05:09.5"},
              {"add_days(day, 1)", "2025-04-01"},
              {"add_months(day, -1)", "2025-02-28"},
              {"add_years(leap, 1)", "2025-02-28"},
              {"add_days(day, 99999999)", "null"},
              {"add_years(day, 9000)", "null"},
              {"days_between(leap, day)", "396"},
              {"years_between(leap, date \"2026-02-28\")", "2"},
              {"date(datetime \"1969-12-31 23:59:59\")", "1969-12-31"},
              {"hour(datetime \"1969-12-31 23:59:59\")", "23"},
              {"weekday(date \"1969-12-31\")", "3"}});
}

TEST(Expression, TodayIsWhatTheOptionSays) {
  Options options;
  options.today = parse_value("2025-06-15", {TypeKind::date, 0})->exact();
  EXPECT_EQ(evaluate({"today()", "years_between(date \"2024-06-15\", today())"}, options),
            (std::vector<std::string>{"2025-06-15", "1"}));
}

TEST(Expression, NullInGivesNullOut) {
  const test::SmallModel model(R"(table t from csv "t.csv" { id integer  x integer  s text  day date
  a = x + 1  b = abs(x)  c = length(s)  d = year(day)  e = x > 1  f = s || "x"  g = add_days(day, x)  h = x / 2  i = -x  j = round(x / 2.0e0) }
query q { show count(t) })",
                               {{"t.csv", "id,x,s,day\n1,,,\n"}});
  const Dataset dataset = model.open();
  for (const char* column : {"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"})
    EXPECT_EQ(test::answer(dataset, std::string("show count(") + column + " for t)"), "0") << column;
}

// All expressions over few operands, against SQLite: null logic and integer arithmetic.
TEST(Expression, SmallExpressionsAgreeWithSqlite) {
  const std::vector<std::string> atoms{"x", "y", "null", "0", "2"};
  std::vector<std::string> numbers = atoms;
  for (const auto& a : {"x", "y", "2"}) {
    for (const auto& b : atoms) {
      for (const char* op : {"+", "-", "*"}) numbers.push_back("(" + std::string(a) + " " + op + " " + b + ")");
    }
  }
  std::vector<std::string> conditions;
  for (const auto& a : numbers) {
    for (const auto& b : {"x", "y", "1"}) {
      for (const char* op : {"=", "<", "<>", ">="}) conditions.push_back("(" + a + " " + op + " " + b + ")");
    }
    if (a != "null") conditions.push_back("(" + a + " is null)");
    if (a != "null") conditions.push_back("(" + a + " in (1, y, null))");
    if (a != "null") conditions.push_back("(" + a + " between y and 2)");
  }
  std::vector<std::string> expressions;
  for (std::size_t i = 0; i < conditions.size(); ++i) {
    const std::string& other = conditions[(i * 37 + 11) % conditions.size()];
    expressions.push_back("case when " + conditions[i] + " then 1 when not " + conditions[i] + " then 0 end");
    expressions.push_back("case when " + conditions[i] + " and " + other + " then 1 when not (" + conditions[i] +
                          " or " + other + ") then 0 end");
    expressions.push_back("coalesce(" + numbers[i % numbers.size()] + ", x, -1)");
  }
  std::string text = "table t from csv \"t.csv\" { key id integer  x integer  y integer\n";
  std::string sql = "create table t(id integer, x integer, y integer);\ninsert into t values ";
  std::string csv = "id,x,y\n";
  const std::vector<std::string> values{"", "-1", "0", "1", "2"};
  int id = 0;
  for (const auto& x : values) {
    for (const auto& y : values) {
      ++id;
      sql += (id == 1 ? "(" : ",(") + std::to_string(id) + "," + (x.empty() ? "null" : x) + "," +
             (y.empty() ? "null" : y) + ")";
      csv += std::to_string(id) + "," + x + "," + y + "\n";
    }
  }
  sql += ";\nselect id";
  std::string show;
  for (std::size_t i = 0; i < expressions.size(); ++i) {
    text += "  c" + std::to_string(i) + " = " + expressions[i] + "\n";
    show += (i == 0 ? "" : ", ") + ("v" + std::to_string(i)) + " = max(c" + std::to_string(i) + " for t)";
  }
  // SQLite takes at most 2,000 columns at once.
  const test::SmallModel shown(text + "}\nquery q { by t.id show " + show + ", n = count(t) }", {{"t.csv", csv}});
  const Dataset dataset = shown.open();
  const auto result = ask(dataset, {"q", {}});
  ASSERT_TRUE(result) << test::messages(result.error());
  ASSERT_EQ(result->rows.size(), 25U);
  for (std::size_t begin = 0; begin < expressions.size(); begin += 500) {
    std::string select = sql;
    const std::size_t end = std::min(begin + 500, expressions.size());
    for (std::size_t i = begin; i < end; ++i) select += ", " + expressions[i];
    const auto expected = test::run_sqlite(select + " from t order by id;");
    ASSERT_EQ(expected.size(), 25U);
    for (std::size_t row = 0; row < 25; ++row) {
      for (std::size_t i = begin; i < end; ++i) {
        const Value& value = result->rows[row].cells[1 + i];
        ASSERT_EQ(value.is_null() ? "null" : to_text(value, {TypeKind::integer, 0}), expected[row][1 + i - begin])
            << expressions[i] << " in row " << row;
      }
    }
  }
}

}  // namespace
}  // namespace juniper::expression_test
