// All small expressions: every operator and function over columns, and every one with each of its operands replaced by
// every other that gives the operand's type; over all pairs of a few values of each type, null among them. Each is
// computed as a calculated column by the engine, row by row by the naive evaluator, and by SQLite. Then every
// aggregate, over every kind of set of a fact's rows, in every kind of slice.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "model/access.h"
#include "store/store.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::exhaustive_test {
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
      {{"datetime(", ", ", ")"}, "yt", 'm'},
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
    const language::Table& table = model::checked(dataset.model()).tables[0];
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
  if (test::is_sanitized) {
    std::size_t at = 0;
    std::erase_if(expressions, [&](const std::string&) { return at++ % 3 != 0; });
  }
  expect_agreement(expressions);
}

// --- aggregates -----------------------------------------------------------------------------------------------------

const char* const network = R"(
table sessions from csv "s.csv" {
  key id integer  bay integer  code text  day date  end_day date  kwh decimal(1)  real_kwh real  fast boolean
}
table bays from csv "b.csv" { key bay integer  region text }
table days from csv "d.csv" { key day date  year integer  month integer }
link sessions.bay     -> bays.bay
link sessions.day     -> days.day
link sessions.end_day -> days.day as end_date
calendar days.day periods (year, month)
)";

const std::map<std::string, std::string> network_files{
    {"s.csv",
     "id,bay,code,day,end_day,kwh,real_kwh,fast\n"
     "1,1,A,2025-01-30,2025-01-31,1.5,0.5,true\n2,1,B,2025-01-31,2025-02-01,-2.0,1.5,false\n"
     "3,2,A,2025-02-01,2025-02-01,0.0,,true\n4,2,,2025-02-28,2025-03-01,7.5,2.5,\n"
     "5,9,B,2025-02-28,,7.5,-0.5,false\n6,,A,,2025-01-31,,1.5,true\n7,1,B,2025-02-01,2025-02-02,1.5,0.0,true\n"},
    {"b.csv", "bay,region\n1,Coast\n2,Upland\n3,\n"},
    {"d.csv",
     "day,year,month\n2025-01-30,2025,1\n2025-01-31,2025,1\n2025-02-01,2025,2\n2025-02-02,2025,2\n"
     "2025-02-28,2025,2\n2025-03-01,2025,3\n"}};

// Every aggregate, with the loop's rows at the end.
const std::vector<std::string> aggregates{"sum(x.kwh for x in {})",
                                          "sum(x.real_kwh for x in {})",
                                          "avg(x.kwh for x in {})",
                                          "min(x.day for x in {})",
                                          "max(x.code for x in {})",
                                          "count({})",
                                          "count(x.code for x in {})",
                                          "count(distinct x.code for x in {})",
                                          "exists({})",
                                          "product(x.id for x in {})",
                                          "median(x.kwh for x in {})",
                                          "quantile(0.3, x.real_kwh for x in {})",
                                          "stddev(x.kwh for x in {})",
                                          "variance_pop(x.real_kwh for x in {})",
                                          "any(x.fast for x in {})",
                                          "every(x.kwh > 0 for x in {})",
                                          "first(x.code by x.kwh for x in {})",
                                          "last(x.id by (x.day desc, x.kwh) for x in {})",
                                          "list(x.code, \"/\" for x in {})",
                                          "rank(1.5 among x.kwh for x in {} desc)",
                                          "rank(date \"2025-02-01\" among x.day for x in {} dense)",
                                          "max(count(y in sessions where y.kwh < x.kwh) for x in {})",
                                          "sum(count(sessions of x) for x in {})"};

// Sets of rows of the fact.
const std::vector<std::string> sets{"sessions",
                                    "sessions where kwh > 0",
                                    "sessions where bays.region is null or fast",
                                    "sessions via end_date",
                                    "sessions across bays",
                                    "sessions across everything but (days)",
                                    "(top 2 sessions by kwh)",
                                    "(top 3 sessions by day asc)",
                                    "sessions sorted by kwh desc",
                                    "union(sessions where kwh > 1, sessions where fast)",
                                    "except(sessions, sessions where fast)",
                                    "intersect(sessions where kwh > 1, sessions where fast)",
                                    "sessions with n = kwh * 2"};

const std::vector<std::string> modifiers{"",
                                         " via end_date",
                                         " across bays",
                                         " across everything",
                                         " during to_date(month)",
                                         " during previous(month)",
                                         " during shift(-1 month)",
                                         " during trailing(2 day)",
                                         " where bays.region = \"Coast\"",
                                         " across bays where kwh > 0"};

TEST(Exhaustive, EveryAggregateOverEverySetInEverySlice) {
  const test::SmallModel files(network, network_files);
  const Dataset dataset = files.open();
  std::size_t compared = 0;
  std::size_t tried = 0;
  for (const std::string by : {"", "by bays.region", "by days.month, sessions.fast"}) {
    for (const std::string& modifier : modifiers) {
      for (const std::string& set : sets) {
        if (test::is_sanitized && ++tried % 3 != 0) continue;
        // What has no meaning here is left out of the query, one by one; the rest is asked together.
        std::string shown;
        for (const std::string& aggregate : aggregates) {
          std::string item = aggregate;
          const std::size_t hole = item.find("{}");
          item.replace(hole, 2, set);
          const std::string expression = fmt::format("({}){}", item, modifier);
          const std::string show = modifier.empty() ? expression : "(" + expression + ")";
          if (!ask(dataset, {fmt::format("{} show {} as a", by, show)})) continue;
          shown += fmt::format("{}{} as a{}", shown.empty() ? "" : ", ", show, compared++);
        }
        if (shown.empty()) continue;
        const std::string asked = by.empty() ? "show " + shown : fmt::format("{} show {} total grand", by, shown);
        EXPECT_EQ(test::answer_difference(dataset, asked), "") << asked;
        if (testing::Test::HasFailure()) return;
      }
    }
  }
  fmt::print("{} aggregates\n", compared);
  EXPECT_GE(compared, test::is_sanitized ? 2000U : 6000U);
}

}  // namespace
}  // namespace juniper::exhaustive_test
