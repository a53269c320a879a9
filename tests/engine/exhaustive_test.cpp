// All small expressions: every operator and function over columns, and every one with each of its operands replaced by
// every other that gives the operand's type; over all pairs of a few values of each type, null among them. Each is
// computed as a calculated column by the engine, row by row by the naive evaluator, and by SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/dataset.h"
#include "store/store.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper {
namespace {

// The types, by the letter with which columns of theirs begin.
struct Domain {
  char letter;
  const char* type;
  std::vector<std::string> values;  // CSV fields
};
const std::vector<Domain> domains{
    {'i', "integer", {"", "-3", "0", "1", "7"}},
    {'d', "decimal(1)", {"", "-1.5", "0.0", "0.5", "12.4"}},
    {'r', "real", {"", "-0.5", "0.0", "1.5", "2.5"}},
    {'s', "text", {"", "\"\"", "a", "Grüße", "a_%"}},
    {'b', "boolean", {"", "false", "true", "true", "false"}},
    {'y', "date", {"", "2024-02-29", "2024-12-31", "2025-01-01", "1969-12-31"}},
    {'m', "datetime", {"", "2024-02-29 23:59:59", "2025-01-01 00:00:00", "1969-12-31 12:30:00", "2025-06-15 08:05:07"}},
    {'t', "time", {"", "00:00:00", "08:30:15", "23:59:59", "12:00:00"}}};

// An operator or function: its text around the operands, their types, and that of its result.
struct Form {
  std::vector<std::string> parts;
  std::string operands;
  char result;
};

std::vector<Form> forms() {
  std::vector<Form> all{
      {{"(", " and ", ")"}, "bb", 'b'},
      {{"(", " or ", ")"}, "bb", 'b'},
      {{"(not ", ")"}, "b", 'b'},
      {{"(", " || ", ")"}, "ss", 's'},
      {{"(", " like ", ")"}, "ss", 'b'},
      {{"starts_with(", ", ", ")"}, "ss", 'b'},
      {{"ends_with(", ", ", ")"}, "ss", 'b'},
      {{"contains(", ", ", ")"}, "ss", 'b'},
      {{"length(", ")"}, "s", 'i'},
      {{"upper(", ")"}, "s", 's'},
      {{"lower(", ")"}, "s", 's'},
      {{"trim(", ")"}, "s", 's'},
      {{"substring(", ", ", ")"}, "si", 's'},
      {{"substring(", ", ", ", 2)"}, "si", 's'},
      {{"replace(", ", \"a\", ", ")"}, "ss", 's'},
      {{"(", " div ", ")"}, "ii", 'i'},
      {{"(", " mod ", ")"}, "ii", 'i'},
      {{"(", " / ", ")"}, "ii", 'r'},
      {{"(", " / ", ")"}, "dd", 'r'},
      {{"(", " / ", ")"}, "rr", 'r'},
      {{"(", " * ", ")"}, "ii", 'i'},
      {{"(", " * ", ")"}, "rr", 'r'},
      {{"round(", " * ", ", 1)"}, "dd", 'd'},
      {{"round(", ")"}, "d", 'd'},
      {{"(floor(", ") + 0.0)"}, "d", 'd'},
      {{"(ceil(", ") + 0.0)"}, "d", 'd'},
      {{"(trunc(", ") + 0.0)"}, "d", 'd'},
      {{"sign(", ")"}, "d", 'i'},
      {{"sign(", ")"}, "r", 'i'},
      {{"sqrt(", ")"}, "r", 'r'},
      {{"ln(", ")"}, "r", 'r'},
      {{"exp(", ")"}, "r", 'r'},
      {{"power(", ", ", ")"}, "rr", 'r'},
      {{"year(", ")"}, "y", 'i'},
      {{"quarter(", ")"}, "y", 'i'},
      {{"month(", ")"}, "y", 'i'},
      {{"week(", ")"}, "y", 'i'},
      {{"weekday(", ")"}, "y", 'i'},
      {{"day(", ")"}, "y", 'i'},
      {{"year(", ")"}, "m", 'i'},
      {{"hour(", ")"}, "m", 'i'},
      {{"minute(", ")"}, "m", 'i'},
      {{"second(", ")"}, "m", 'i'},
      {{"hour(", ")"}, "t", 'i'},
      {{"second(", ")"}, "t", 'i'},
      {{"date(", ")"}, "m", 'y'},
      {{"time(", ")"}, "m", 't'},
      {{"add_days(", ", ", ")"}, "yi", 'y'},
      {{"add_months(", ", ", ")"}, "yi", 'y'},
      {{"add_years(", ", ", ")"}, "yi", 'y'},
      {{"days_between(", ", ", ")"}, "yy", 'i'},
      {{"months_between(", ", ", ")"}, "yy", 'r'},
      {{"years_between(", ", ", ")"}, "yy", 'r'},
      {{"start_of(", ", week)"}, "y", 'y'},
      {{"end_of(", ", month)"}, "y", 'y'},
      {{"start_of(", ", quarter)"}, "y", 'y'},
  };
  for (const Domain& domain : domains) {
    const std::string one(1, domain.letter);
    const std::string two(2, domain.letter);
    for (const char* sign : {"=", "<>", "<", "<=", ">", ">=", "is distinct from", "is not distinct from"}) {
      if (domain.letter == 'b' && (sign[0] == '<' || sign[0] == '>') && std::string(sign) != "<>") continue;
      all.push_back({{"(", fmt::format(" {} ", sign), ")"}, two, 'b'});
    }
    all.push_back({{"(", " is null)"}, one, 'b'});
    all.push_back({{"(", " in (", ", null))"}, two, 'b'});
    all.push_back({{"coalesce(", ", ", ")"}, two, domain.letter});
    all.push_back({{"case when ", " then ", " else ", " end"}, "b" + two, domain.letter});
    if (domain.letter == 'b') continue;
    all.push_back({{"(", " between ", " and ", ")"}, two + one, 'b'});
    all.push_back({{"least(", ", ", ")"}, two, domain.letter});
    all.push_back({{"greatest(", ", ", ")"}, two, domain.letter});
    if (domain.letter != 'i' && domain.letter != 'd' && domain.letter != 'r') continue;
    all.push_back({{"(", " + ", ")"}, two, domain.letter});
    all.push_back({{"(", " - ", ")"}, two, domain.letter});
    all.push_back({{"(-", ")"}, one, domain.letter});
    all.push_back({{"abs(", ")"}, one, domain.letter});
  }
  return all;
}

// The form over columns: i1, i2, …
std::string over_columns(const Form& form) {
  std::string text = form.parts[0];
  for (std::size_t k = 0; k < form.operands.size(); ++k)
    text += fmt::format("{}{}", form.operands[k], k % 2 + 1) + form.parts[k + 1];
  return text;
}

// A table of all pairs of values: the first of each type in its column 1, the second in its column 2.
test::SmallModel model_with(const std::vector<std::string>& expressions) {
  std::string text = "table t from csv \"t.csv\" { key id integer\n";
  std::string csv = "id";
  for (const Domain& domain : domains) {
    text += fmt::format("  {0}1 {1}  {0}2 {1}\n", domain.letter, domain.type);
    csv += fmt::format(",{0}1,{0}2", domain.letter);
  }
  for (std::size_t i = 0; i < expressions.size(); ++i) text += fmt::format("  x{} = {}\n", i, expressions[i]);
  csv += "\n";
  for (std::size_t row = 0; row < 25; ++row) {
    csv += std::to_string(row);
    for (const Domain& domain : domains) csv += "," + domain.values[row / 5] + "," + domain.values[row % 5];
    csv += "\n";
  }
  return {text + "}\n", {{"t.csv", csv}}};
}

void expect_agreement(const std::vector<std::string>& expressions) {
  constexpr std::size_t at_a_time = 100;
  for (std::size_t begin = 0; begin < expressions.size(); begin += at_a_time) {
    const std::size_t end = std::min(expressions.size(), begin + at_a_time);
    const auto first = expressions.begin() + static_cast<std::ptrdiff_t>(begin);
    const std::vector<std::string> some(first, first + static_cast<std::ptrdiff_t>(end - begin));
    const test::SmallModel files = model_with(some);
    const Dataset dataset = files.open();
    const language::Table& table = dataset.model().checked().tables[0];
    for (std::size_t i = 0; i < some.size(); ++i) {
      const language::ColumnId id{0, *table.find(fmt::format("x{}", i))};
      EXPECT_EQ(test::column_difference(dataset, id), "") << some[i];
    }
  }
}

TEST(Exhaustive, EveryOperatorAndFunction) {
  std::vector<std::string> expressions;
  for (const Form& form : forms()) expressions.push_back(over_columns(form));
  EXPECT_GE(expressions.size(), 150U);
  expect_agreement(expressions);
}

TEST(Exhaustive, EveryOneWithinEveryOther) {
  const std::vector<Form> all = forms();
  std::vector<std::string> expressions;
  for (const Form& outer : all) {
    for (std::size_t k = 0; k < outer.operands.size(); ++k) {
      for (const Form& inner : all) {
        if (inner.result != outer.operands[k]) continue;
        Form nested = outer;
        nested.parts[k] += over_columns(inner) + nested.parts[k + 1];
        nested.parts.erase(nested.parts.begin() + static_cast<std::ptrdiff_t>(k) + 1);
        nested.operands.erase(k, 1);
        expressions.push_back(over_columns(nested));
      }
    }
  }
  fmt::print("{} expressions\n", expressions.size());
  EXPECT_GE(expressions.size(), 2000U);
  expect_agreement(expressions);
}

}  // namespace
}  // namespace juniper
