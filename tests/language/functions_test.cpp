// Functions of the model: what they stand for is what is written out, wherever they are used.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/ask.h"
#include "juniper/describe.h"
#include "juniper/refactor.h"
#include "juniper/sql.h"
#include "support/support.h"

namespace juniper::functions_test {
namespace {

constexpr const char* data = R"(table sessions from csv "s.csv" {
  key id integer  bay integer  day date  kwh decimal(1)
  doubled = kwh * 2
  large = above(kwh, 10)
}
table bays from csv "b.csv" { key bay integer  region text }
table days from csv "d.csv" { key day date  month integer }
link sessions.bay -> bays.bay
link sessions.day -> days.day
calendar days.day periods (month)
measure energy = sum(kwh for sessions)
measure n = count(sessions)
)";

constexpr const char* functions = R"(function net(x, rate) = round(x / (1 + rate), 2) "without tax"
function above(x, limit) = if x > limit then x else 0
function month_before(m) = (m during shift(-1 month))
function growth(m) = m - month_before(m)
function share(m) = m / (m across everything)
function squares(x) = sum(x * x for sessions)
function mean_of(x) = let (total = sum(x for sessions)) total / n
)";

test::SmallModel network(const std::string& more = "") {
  std::string sessions = "id,bay,day,kwh\n";
  for (int i = 0; i < 60; ++i)
    sessions += fmt::format("{},{},2025-0{}-0{},{}.{}\n", i, i % 4, i % 2 + 1, i % 3 + 1, i * 7 % 23, i % 10);
  return {
      std::string(data) + functions + more,
      {{"s.csv", sessions},
       {"b.csv", "bay,region\n0,Coast\n1,Coast\n2,Upland\n"},
       {"d.csv", "day,month\n2025-01-01,1\n2025-01-02,1\n2025-01-03,1\n2025-02-01,2\n2025-02-02,2\n2025-02-03,2\n"}}};
}

TEST(Functions, StandForWhatIsWrittenOut) {
  const Dataset dataset = network().open();
  const std::vector<std::pair<std::string, std::string>> pairs{
      {"show sum(net(kwh, 0.19) for sessions) as x", "show sum(round(kwh / (1 + 0.19), 2) for sessions) as x"},
      {"by days.month show month_before(energy) as x", "by days.month show (energy during shift(-1 month)) as x"},
      {"by days.month show growth(energy + n) as x",
       "by days.month show (energy + n) - ((energy + n) during shift(-1 month)) as x"},
      {"by bays.region show share(energy) as x", "by bays.region show energy / (energy across everything) as x"},
      {"show squares(kwh - 1) as x", "show sum((kwh - 1) * (kwh - 1) for sessions) as x"},
      {"show mean_of(kwh) as x", "show let (total = sum(kwh for sessions)) total / n as x"},
      {"show net(net(energy, 0.1), 0.2) as x", "show round(round(energy / (1 + 0.1), 2) / (1 + 0.2), 2) as x"},
      {"by above(sessions.kwh, 15) as big show n having share(n) > 0.01",
       "by if sessions.kwh > 15 then sessions.kwh else 0 as big show n having n / (n across everything) > 0.01"},
      {"show n where above(sessions.kwh, 5) = 0", "show n where (if sessions.kwh > 5 then sessions.kwh else 0) = 0"},
      {"show sum(large for sessions) as x", "show sum(if kwh > 10 then kwh else 0 for sessions) as x"},
      {"with measure energy = net(n, 1) show energy", "with measure energy = round(n / (1 + 1), 2) show energy"}};
  for (const auto& [used, written] : pairs) {
    EXPECT_EQ(test::answer(dataset, used), test::answer(dataset, written)) << used;
    const auto agreement = against_sqlite(dataset, {used, {}});
    EXPECT_TRUE(agreement && agreement->same()) << used;
    Question naive{used, {}};
    naive.plan = Plan::naive;
    EXPECT_EQ(test::rows_of(*ask(dataset, naive)), test::answer(dataset, written)) << used;
  }
}

TEST(Functions, AreDescribedWithTheirUsers) {
  const test::SmallModel model = network("measure grown = growth(energy)\n");
  const Dataset dataset = model.open();
  const auto before = describe(dataset.model(), "month_before");
  ASSERT_TRUE(before && before->size() == 1);
  EXPECT_EQ((*before)[0].kind, DescribedKind::function);
  EXPECT_EQ((*before)[0].used_by, (std::vector<std::string>{"measure grown", "function growth"}));
  EXPECT_EQ((*describe(dataset.model(), "net"))[0].description, "without tax");
  EXPECT_EQ((*describe(dataset.model(), "above"))[0].used_by,
            std::vector<std::string>{"calculated column sessions.large"});
}

std::string said(const std::string& more, const std::string& query = "show n") {
  const auto model = Model::parse("m.ridge", std::string(data) + functions + more);
  if (!model) return test::codes(model.error());
  const auto answer = ask(network(more).open(), {query, {}});
  return answer ? "taken" : test::codes(answer.error());
}

TEST(Functions, WhatIsNoneOrGoesWrongIsTold) {
  EXPECT_EQ(said(""), "taken");
  EXPECT_EQ(said("", "show nett(n, 1) as x"), "JR-205");
  EXPECT_EQ(said("", "show net(n) as x"), "JR-303");
  EXPECT_EQ(said("", "show growth(nothing) as x"), "JR-204");
  EXPECT_EQ(said("", "show net(\"a\", 1) as x"), "JR-301");
  EXPECT_EQ(said("function f(x) = g(x)\nfunction g(x) = f(x)\n"), "JR-211 JR-211");
  EXPECT_EQ(said("function f(x) = x\nfunction f(x) = x\n"), "JR-203");
  EXPECT_EQ(said("function n(x) = x\n"), "JR-203");
  EXPECT_EQ(said("function round(x) = x\n"), "JR-203");
  EXPECT_EQ(said("function f(x, x) = x\n"), "JR-203");
  EXPECT_EQ(said("function f() = 1\n"), "JR-110");
  // What an argument names stays what it is.
  EXPECT_EQ(
      said("function worst(x) = max(x * r.kwh for r in sessions)\n", "show sum(worst(r.kwh) for r in sessions) as x"),
      "JR-212");
  EXPECT_EQ(said("function f(x) = let (y = x + 1) y * 2\n", "show let (y = n) f(y) as x"), "JR-212");
  // An error within a function names both places.
  const Dataset bad = network("function bad(x) = x + length(1)\nfunction joined(x) = x || \"kWh\"\n").open();
  const auto by_argument = ask(bad, {"show joined(n) as x", {}});
  ASSERT_FALSE(by_argument);
  EXPECT_NE(by_argument.error()[0].message.find("in the function joined ("), std::string::npos)
      << by_argument.error()[0].message;
  const auto answer = ask(bad, {"show bad(n) as x", {}});
  ASSERT_FALSE(answer);
  EXPECT_NE(answer.error()[0].message.find("where bad is used in <query>:1:6"), std::string::npos)
      << answer.error()[0].message;
  // Functions of functions of functions do not grow without end.
  std::string doubling = "function f0(x) = x + x\n";
  for (int i = 1; i < 40; ++i) doubling += fmt::format("function f{}(x) = f{}(f{}(x))\n", i, i - 1, i - 1);
  EXPECT_EQ(said(doubling, "show f39(n) as x"), "JR-116");
  // Nor does the search for circles, where each uses all before it.
  std::string dense;
  for (int i = 0; i < 60; ++i) {
    dense += fmt::format("function g{}(x) = x", i);
    for (int j = 0; j < i; ++j) dense += fmt::format(" + g{}(1)", j);
    dense += "\n";
  }
  EXPECT_EQ(said(dense, "show g3(n) as x"), "taken");
}

// A step of a refactoring changes no text that stands for several.
TEST(Functions, AreNotRewrittenByARefactoring) {
  const test::SmallModel model = network(
      "function of_doubled(x) = sum(doubled * x for sessions)\n"
      "measure m = of_doubled(2)\nmeasure k = sum(doubled for sessions)\n");
  const auto inlined = refactor(model.open(), "inline sessions.doubled");
  ASSERT_FALSE(inlined && inlined->proved());
  EXPECT_NE(test::messages(inlined.error()).find("of_doubled"), std::string::npos) << test::messages(inlined.error());
  // Others are.
  const auto other = refactor(network("measure k = sum(doubled for sessions)\n").open(), "inline sessions.doubled");
  ASSERT_TRUE(other) << test::messages(other.error());
  EXPECT_TRUE(other->proved());
}

}  // namespace
}  // namespace juniper::functions_test
