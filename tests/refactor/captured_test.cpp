// Queries that a log or a baseline knows count as uses: for the audit, and for refactorings, which prove them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/refactor.h"
#include "juniper/report.h"
#include "support/support.h"

namespace juniper::captured_test {
namespace {

// A line of a log.
std::string asked(const std::string& query, const std::string& parameter = "", const std::string& value = "") {
  const std::string set = parameter.empty() ? "" : fmt::format(", \"set\": {{\"{}\": \"{}\"}}", parameter, value);
  return fmt::format("{{\"query\": \"{}\"{}}}", query, set);
}

class Captured : public testing::Test {
 protected:
  test::SmallModel model_{
      "param least = 2\n"
      "table sessions from csv \"s.csv\" {\n  key id integer\n  bay text\n  kwh integer\n  price decimal(2)\n"
      "  cost = kwh * price\n  large = kwh >= least\n}\n"
      "measure costs = sum(cost for sessions)\nmeasure lonely = max(kwh for sessions)\nquery all { show costs }\n",
      {{"s.csv", "id,bay,kwh,price\n1,A,1,0.50\n2,A,2,0.60\n3,B,3,\n"}}};

  std::string log(const std::vector<std::string>& lines) {
    std::string text;
    for (const std::string& line : lines) text += line + "\n";
    return model_.folder.write("q.jsonl", text);
  }
  Dataset open(const KnownQueries& known) {
    Options options;
    options.reading.captured = known.captured;
    auto dataset = Dataset::open(model_.path(), options);
    if (!dataset) ADD_FAILURE() << test::messages(dataset.error());
    return *dataset;
  }
  KnownQueries known(const std::string& log = "") {
    auto queries = known_queries(model_.path(), log);
    if (!queries) ADD_FAILURE() << test::messages(queries.error());
    return *queries;
  }
  static std::set<std::string> unused(const Dataset& dataset) {
    std::set<std::string> subjects;
    const auto findings = audit(dataset);
    if (!findings) ADD_FAILURE() << test::messages(findings.error());
    for (const Finding& finding : findings->findings)
      if (finding.unused) subjects.insert(finding.subject);
    return subjects;
  }
};

TEST_F(Captured, CountAsUsesForTheAudit) {
  EXPECT_EQ(unused(open({})), (std::set<std::string>{"lonely", "sessions.bay", "sessions.id", "sessions.large"}));
  const Dataset dataset =
      open(known(log({asked("by sessions.bay show lonely"), asked("show n = count(sessions where large)"),
                      asked("show gone"), asked("all")})));
  EXPECT_EQ(unused(dataset), (std::set<std::string>{"sessions.id"}));
  const auto findings = audit(dataset);
  EXPECT_EQ(findings->captured, 3U);
  ASSERT_EQ(findings->not_understood.size(), 1U);
  EXPECT_EQ(findings->not_understood[0].place.file, model_.folder.path("q.jsonl") + ":3");
  const std::string shown = render(report(*findings));
  EXPECT_NE(shown.find("in 3 captured queries"), std::string::npos) << shown;
  EXPECT_NE(shown.find("1 of the captured queries is not understood"), std::string::npos) << shown;
}

TEST_F(Captured, AreThoseOfTheBaselineBesideTheModel) {
  EXPECT_FALSE(known().has_baseline);
  BaselineSettings settings;
  settings.log = log({asked("by sessions.bay show costs"), asked("all", "least", "3")});
  ASSERT_TRUE(baseline(model_.open(), baseline_path(model_.path()), settings));
  const KnownQueries queries = known();
  EXPECT_TRUE(queries.has_baseline);
  EXPECT_EQ(queries.captured.size(), 2U);
  EXPECT_FALSE(unused(open(queries)).contains("sessions.bay"));
  model_.folder.write("model.baseline/data.txt", "other");
  EXPECT_EQ(test::codes(known_queries(model_.path()).error()), "JR-904");
}

TEST_F(Captured, KeepWhatTheyName) {
  const Dataset dataset =
      open(known(log({asked("by sessions.bay show lonely"), asked("by sessions.cost show costs")})));
  for (const auto& [step, line] : std::vector<std::pair<std::string, std::string>>{
           {"drop sessions.bay", "q.jsonl:1"}, {"drop lonely", "q.jsonl:1"}, {"inline sessions.cost", "q.jsonl:2"}}) {
    EXPECT_TRUE(refactor(model_.open(), step)) << step;
    const auto refused = refactor(dataset, step);
    ASSERT_FALSE(refused) << step;
    EXPECT_EQ(refused.error()[0].code, "JR-803");
    EXPECT_NE(test::messages(refused.error()).find(line), std::string::npos) << test::messages(refused.error());
  }
}

TEST_F(Captured, AreProvedWithTheirParameters) {
  // One names what would go. Without it, those that read it are proved.
  const Dataset dataset =
      open(known(log({asked("by sessions.bay show costs"), asked("show n = sum(cost for sessions)", "least", "3")})));
  ASSERT_FALSE(refactor(dataset, "inline sessions.cost"));
  const Dataset without =
      open(known(log({asked("by sessions.bay show costs"), asked("show n = count(sessions)"),
                      asked("by sessions.large show costs", "least", "3"), asked("all", "least", "1"),
                      asked("by sessions.id show costs", "gone", "1")})));
  const auto proved = refactor(without, "inline sessions.cost");
  ASSERT_TRUE(proved) << test::messages(proved.error());
  EXPECT_TRUE(proved->proved());
  EXPECT_EQ(proved->captured, 5U);
  std::vector<std::string> names;
  for (const QueryProof& proof : proved->queries) {
    EXPECT_TRUE(proof.is_timed);
    EXPECT_GT(proof.speed.runs, 0U);
    EXPECT_GT(proof.comparison.cells, 0U);
    names.push_back(proof.query.substr(proof.query.find_last_of("/\\") + 1));
  }
  EXPECT_EQ(names, (std::vector<std::string>{"all", "q.jsonl:1", "q.jsonl:3", "q.jsonl:4"}));
  // One has a parameter that is not there, and gives no answer before: that is told.
  ASSERT_EQ(proved->notes.size(), 1U);
  EXPECT_NE(proved->notes[0].find("give no answer before the change"), std::string::npos) << proved->notes[0];
  EXPECT_NE(proved->notes[0].find("q.jsonl:5"), std::string::npos) << proved->notes[0];
  EXPECT_EQ(render(report(*proved)).find("most frequent"), std::string::npos);
  // So is one that the model does not understand.
  const auto unknown = refactor(open(known(log({asked("show gone")}))), "inline sessions.cost");
  ASSERT_TRUE(unknown) << test::messages(unknown.error());
  ASSERT_EQ(unknown->notes.size(), 1U);
  EXPECT_NE(unknown->notes[0].find("does not understand"), std::string::npos) << unknown->notes[0];
  // Of many, the most frequent are asked.
  std::vector<std::string> lines(3, asked("by sessions.bay show costs"));
  for (int i = 0; i < 30; ++i) lines.push_back(asked(fmt::format("show costs where sessions.kwh > {}", i)));
  RefactorSettings few;
  few.most_captured = 5;
  const auto of_many = refactor(open(known(log(lines))), "inline sessions.cost", few);
  ASSERT_TRUE(of_many) << test::messages(of_many.error());
  EXPECT_EQ(of_many->captured_reached, 31U);
  ASSERT_EQ(of_many->queries.size(), 6U);
  EXPECT_NE(of_many->queries[1].query.find("q.jsonl:1"), std::string::npos);
  EXPECT_NE(render(report(*of_many)).find("of 31 captured queries the 31 that the change reaches (asked: the 5 most"),
            std::string::npos);
  // What the change does not reach is compared, and not timed.
  const auto dropped = refactor(model_.open(), "drop sessions.bay");
  ASSERT_TRUE(dropped) << test::messages(dropped.error());
  EXPECT_FALSE(dropped->queries[0].is_timed);
  EXPECT_NE(render(report(*dropped)).find("it reaches no known query"), std::string::npos);
}

}  // namespace
}  // namespace juniper::captured_test
