// A definition that is wrong takes itself and what rests on it out of the model, and nothing else.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include "juniper/ask.h"
#include "juniper/describe.h"
#include "juniper/draft.h"
#include "juniper/refactor.h"
#include "support/support.h"

namespace juniper::disabled_test {
namespace {

constexpr const char* network = R"(table sessions from csv "s.csv" {
  key id integer
  bay integer
  day date
  kwh decimal(1)
  doubled = kwh * 2
  fourfold = doubled * 2
  bay_key = bay + 0
}
table bays from csv "b.csv" {
  key bay integer
  region text
  n_started = count(sessions of this)
}
table days from csv "d.csv" { key day date  month integer }
table regions = distinct(bays.region)
table busy = bays where n_started > 10
link sessions.bay_key -> bays.bay
link sessions.day -> days.day
calendar days.day periods (month)
function twice(x) = x + x
measure energy = sum(kwh for sessions)
measure n = count(sessions)
measure more = sum(fourfold for sessions)
measure mean = energy / n
measure before = (mean during shift(-1 month))
measure both = twice(energy) + twice(n)
measure n_regions = count(regions)
measure n_busy = count(busy)
measure apart = 1 + 1
query by_region { by bays.region  show energy, mean }
query by_size { by sessions.doubled as size  show n  where sessions.fourfold > 4  having n > 1 }
query monthly { by days.month  show before, both }
query totals { show more, n_regions, n_busy, apart }
query drafted { by bays.region  with measure energy = sum(kwh * 3 for sessions)  show mean as tripled }
)";

test::SmallModel model_of(const std::string& text) {
  std::string sessions = "id,bay,day,kwh\n";
  for (int i = 0; i < 60; ++i)
    sessions += fmt::format("{},{},2025-0{}-0{},{}.{}\n", i, i % 4, i % 2 + 1, i % 3 + 1, i * 7 % 23, i % 10);
  return {
      text,
      {{"s.csv", sessions},
       {"b.csv", "bay,region\n0,Coast\n1,Coast\n2,Upland\n"},
       {"d.csv", "day,month\n2025-01-01,1\n2025-01-02,1\n2025-01-03,1\n2025-02-01,2\n2025-02-02,2\n2025-02-03,2\n"}}};
}

ReadOptions disabling() {
  ReadOptions options;
  options.disable_wrong = true;
  return options;
}

std::string replaced(std::string text, const std::string& from, const std::string& to) {
  const std::size_t at = text.find(from);
  EXPECT_NE(at, std::string::npos) << from;
  return text.replace(at, from.size(), to);
}

std::set<std::string> disabled_in(const Model& model) {
  std::set<std::string> names;
  for (const DisabledInfo& each : model.disabled()) {
    EXPECT_FALSE(each.problems.empty());
    EXPECT_TRUE(names.insert(each.name).second) << each.name;
  }
  return names;
}

// Everything that rests on `name`, itself included, as the model in which nothing is wrong describes it.
std::set<std::string> resting_on(const Model& whole, const std::string& name) {
  std::set<std::string> found{name};
  const auto all = describe(whole);
  if (!all) return {};
  for (bool grows = true; grows;) {
    grows = false;
    for (const Description& each : *all) {
      const bool holds = each.kind == DescribedKind::measure || each.kind == DescribedKind::query ||
                         each.kind == DescribedKind::calculated_column || each.kind == DescribedKind::calculated_table;
      const bool rests = std::any_of(each.rests_on.begin(), each.rests_on.end(), [&](const std::string& below) {
        return found.contains(below) || found.contains(below.substr(0, below.find('.')));
      });
      if (holds && rests) grows = found.insert(each.name).second || grows;
    }
  }
  return found;
}

// Each definition, each way in which it can be wrong: a name that nothing bears, types that do not go together, and a
// text that can't be read.
TEST(Disabled, IsWhatIsWrongAndWhatRestsOnItAndNothingElse) {
  const auto whole = Model::parse("network.ridge", network, disabling());
  ASSERT_TRUE(whole.has_value()) << render(whole.error());
  EXPECT_TRUE(whole->disabled().empty());
  EXPECT_TRUE(whole->disabled_problems().empty());
  const Dataset all = model_of(network).open();
  const std::map<std::string, std::pair<std::string, std::string>> definitions{
      {"sessions.doubled", {"doubled = ", "kwh * 2"}},
      {"sessions.fourfold", {"fourfold = ", "doubled * 2"}},
      {"bays.n_started", {"n_started = ", "count(sessions of this)"}},
      {"energy", {"measure energy = ", "sum(kwh for sessions)\nmeasure n ="}},
      {"n", {"measure n = ", "count(sessions)"}},
      {"more", {"measure more = ", "sum(fourfold for sessions)"}},
      {"mean", {"measure mean = ", "energy / n"}},
      {"before", {"measure before = ", "(mean during shift(-1 month))"}},
      {"both", {"measure both = ", "twice(energy) + twice(n)"}},
      {"n_regions", {"measure n_regions = ", "count(regions)"}},
      {"n_busy", {"measure n_busy = ", "count(busy)"}},
      {"regions", {"table regions = ", "distinct(bays.region)"}},
      {"busy", {"table busy = ", "bays where n_started > 10"}},
      {"by_region", {"query by_region { by bays.region  show ", "energy, mean"}},
      {"by_size", {"query by_size { by sessions.doubled as size  show ", "n  where"}},
      {"monthly", {"query monthly { by days.month  show ", "before, both"}},
      {"totals", {"show ", "more, n_regions, n_busy, apart"}},
      {"drafted", {"with measure energy = ", "sum(kwh * 3 for sessions)"}},
  };
  for (const auto& [name, place] : definitions) {
    const auto& [head, body] = place;
    std::set<std::string> expected = resting_on(*whole, name);
    for (const std::string& wrong : {std::string("nowhere"), std::string("1 + \"x\""), std::string("1 + )")}) {
      const bool is_rows = name == "regions" || name == "busy";
      const std::string rest = body.find('\n') != std::string::npos ? body.substr(body.find('\n')) : "";
      std::string written = wrong + rest;
      if (name == "by_size") written = wrong + " as x  where";
      if (is_rows && wrong == "1 + \"x\"") written = "bays where region > 1";
      SCOPED_TRACE(name + ": " + written);
      const std::string text = replaced(network, head + body, head + written);
      const auto model = Model::parse("network.ridge", text, disabling());
      ASSERT_TRUE(model.has_value()) << render(model.error());
      EXPECT_EQ(disabled_in(*model), expected);
      // What is wrong is told once, with what it leads to, and stops whoever wants it to.
      const Diagnostics problems = model->disabled_problems();
      ASSERT_GE(problems.size(), 2U);
      EXPECT_EQ(problems.back().code, "JR-220");
      for (const std::string& each : expected)
        EXPECT_NE(problems.back().message.find(each), std::string::npos) << problems.back().message;
      EXPECT_EQ(std::count_if(problems.begin(), problems.end(),
                              [](const Diagnostic& problem) { return problem.code == "JR-219"; }),
                0);
      const auto stopped = Model::parse("network.ridge", text);
      ASSERT_FALSE(stopped.has_value());
      EXPECT_EQ(render(stopped.error()), render(Diagnostics(problems.begin(), problems.end() - 1)));
      // The rest answers as it did.
      Options options;
      options.reading = disabling();
      const Dataset some = model_of(text).open(options);
      for (const QueryInfo& query : all.model().queries()) {
        const auto answer = ask(some, {query.name});
        ASSERT_EQ(answer.has_value(), !expected.contains(query.name)) << query.name;
        if (answer) {
          EXPECT_EQ(test::rows_of(*answer), test::rows_of(*ask(all, {query.name}))) << query.name;
        } else {
          EXPECT_FALSE(answer.error()[0].message.empty());
        }
      }
      for (const MeasureInfo& measure : all.model().measures()) {
        const auto answer = ask(some, {"show " + measure.name});
        ASSERT_EQ(answer.has_value(), !expected.contains(measure.name)) << measure.name;
        if (!answer) {
          EXPECT_EQ(answer.error()[0].code, "JR-219");
        }
      }
    }
  }
}

// What holds tables together is missed by everything: other numbers would come out without it.
TEST(Disabled, IsNothingThatTablesHangTogetherBy) {
  for (const auto& [from, to] : std::vector<std::pair<std::string, std::string>>{
           {"bay_key = bay + 0", "bay_key = bey + 0"},
           {"bay_key = bay + 0", "bay_key = bay + "},
           {"link sessions.bay_key -> bays.bay", "link sessions.bay_key -> bays.bey"},
           {"key day date  month integer", "key day date  month = year(dai)"},
           {"calendar days.day periods (month)", "calendar days.day periods (mont)"},
           {"kwh decimal(1)", "kwh decimall(1)"},
           {"function twice(x) = x + x", "function twice(x) = x + "}}) {
    const auto model = Model::parse("network.ridge", replaced(network, from, to), disabling());
    ASSERT_FALSE(model.has_value()) << to;
    EXPECT_NE(model.error()[0].code, "JR-219") << "the cause comes first: " << render(model.error());
  }
  // Nor is a name given away that a disabled definition bears.
  const auto twice =
      Model::parse("network.ridge", std::string(network) + "measure extra = nothing\nmeasure extra = count(sessions)\n",
                   disabling());
  ASSERT_FALSE(twice.has_value());
  EXPECT_NE(test::codes(twice.error()).find("JR-203"), std::string::npos);
}

// An open bracket takes in what follows up to where the text can't go on so; nothing of it is lost in silence.
TEST(Disabled, IsWhatAnOpenBracketTakesIn) {
  for (const auto& [from, to, expected] : std::vector<std::tuple<std::string, std::string, std::set<std::string>>>{
           {"sum(fourfold for sessions)", "(1 +", {"more", "totals"}},
           {"by bays.region  show energy, mean }", "by bays.region  show (energy }", {"by_region"}},
           {"show mean as tripled }", "show (mean }", {"drafted"}},
           {"count(sessions of this)\n",
            "(count(sessions of this)\n  spare integer\n",
            {"bays.n_started", "busy", "n_busy", "totals"}},
           {"count(sessions of this)\n",
            "(1 + \n  hidden spare integer\n",
            {"bays.n_started", "busy", "n_busy", "totals"}},
           {"count(sessions of this)\n", "1 + )\n  spare = bay + 1\n", {"bays.n_started", "busy", "n_busy", "totals"}},
           {"count(sessions of this)\n",
            "(1 + \n  spare = bay + 1\n  other integer\n",
            {"bays.n_started", "bays.spare", "busy", "n_busy", "totals"}},
           {"count(sessions of this)\n",
            "case when region = 1 2\n    when region = 2 then 3\n    else 4 end\n",
            {"bays.n_started", "busy", "n_busy", "totals"}}}) {
    SCOPED_TRACE(to);
    const std::string text = replaced(network, from, to);
    const auto model = Model::parse("network.ridge", text, disabling());
    ASSERT_TRUE(model.has_value()) << render(model.error());
    EXPECT_EQ(disabled_in(*model), expected) << render(model->disabled_problems());
    std::size_t columns = 0;
    for (const TableInfo& table : model->tables()) columns += table.name == "bays" ? table.columns.size() : 0;
    const std::size_t there = 2 + (text.find("spare") != std::string::npos && !expected.contains("bays.spare")) +
                              (text.find("other") != std::string::npos) + !expected.contains("bays.n_started");
    EXPECT_EQ(columns, there);
  }
}

TEST(Disabled, StopsWhereWarningsAreErrors) {
  ReadOptions strict = disabling();
  strict.strict = true;
  EXPECT_FALSE(Model::parse("network.ridge", replaced(network, "energy / n", "energy / m"), strict).has_value());
}

// A wrong name in a function's text is wrong wherever it is used, and there alone.
TEST(Disabled, FollowsFunctions) {
  const auto model =
      Model::parse("network.ridge", replaced(network, "twice(x) = x + x", "twice(x) = x + y"), disabling());
  ASSERT_TRUE(model.has_value()) << render(model.error());
  EXPECT_EQ(disabled_in(*model), (std::set<std::string>{"both", "monthly"}));
}

TEST(Disabled, CountsAsAUseOfEveryNameInIt) {
  // Nothing else than the disabled measure would name the column.
  const std::string text =
      replaced(network, "key day date  month integer", "key day date  month integer  spare integer") +
      "measure largest = max(spare for days) + nothing\n";
  const test::SmallModel files = model_of(text);
  files.folder.write("d.csv", "day,month,spare\n2025-01-01,1,3\n2025-02-01,2,4\n");
  Options options;
  options.reading = disabling();
  const Dataset dataset = files.open(options);
  const auto described = describe(dataset.model(), "days.spare");
  ASSERT_TRUE(described.has_value());
  EXPECT_EQ(described->at(0).used_by, std::vector<std::string>{"disabled definition largest"});
  const auto refactored = refactor(dataset, "drop days.spare");
  ASSERT_FALSE(refactored.has_value());
  EXPECT_EQ(refactored.error()[0].code, "JR-803");
  EXPECT_NE(render(refactored.error()).find("largest"), std::string::npos) << render(refactored.error());
  // What it does not name may change.
  const auto inlined = refactor(dataset, "inline bays.n_started");
  EXPECT_FALSE(inlined.has_value());  // a calculated table is made from it
  const auto dropped = refactor(dataset, "drop n_regions");
  ASSERT_FALSE(dropped.has_value());
  EXPECT_EQ(render(dropped.error()).find("largest"), std::string::npos);
}

TEST(Disabled, IsMendedByADraft) {
  Options options;
  options.reading = disabling();
  const Dataset dataset = model_of(replaced(network, "energy / n\n", "energy / m\n")).open(options);
  EXPECT_FALSE(ask(dataset, {"show before"}).has_value());
  Question question{"show before, mean"};
  question.drafts = {"measure mean = energy / n"};
  const auto mended = ask(dataset, question);
  ASSERT_TRUE(mended.has_value()) << render(mended.error());
  EXPECT_EQ(test::rows_of(*mended), test::rows_of(*ask(model_of(network).open(), {"show before, mean"})));
  // A draft that is wrong itself is an error, and is not left out.
  question.drafts = {"measure mean = energy / m"};
  EXPECT_FALSE(ask(dataset, question).has_value());
  // It is not written beside the text that stands there.
  const auto drafted = draft(dataset, "measure mean = energy / n", {"show n"});
  ASSERT_TRUE(drafted.has_value()) << render(drafted.error());
  const auto kept = keep(dataset, *drafted);
  ASSERT_FALSE(kept.has_value());
  EXPECT_EQ(kept.error()[0].code, "JR-806");
}

}  // namespace
}  // namespace juniper::disabled_test
