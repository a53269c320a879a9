// What a check compares with what, and what it says.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <pugixml.hpp>

#include "juniper/baseline.h"
#include "juniper/replay.h"
#include "juniper/report.h"
#include "regress/folder.h"
#include "support/support.h"

namespace juniper::check_test {
namespace {

constexpr const char* text = R"(param rate = 2
table t from csv "t.csv" { key id integer  g text  x decimal(2)  r real }
measure s = sum(x for t)  format "0.00"
measure a = avg(r for t)
measure rated = s * rate
query groups { by t.g show s, a total grand }
query total { show s }
query rated_groups { by t.g show rated }
)";

class CheckTest : public testing::Test {
 protected:
  test::SmallModel model_{text, {{"t.csv", "id,g,x,r\n1,a,1.50,0.1\n2,b,2.00,0.2\n3,,,\n4,a,9.25,1e-7\n"}}};
  std::string folder_ = model_.folder.path("b");

  void record(const BaselineSettings& settings = {}) {
    const auto recorded = baseline(model_.open(), folder_, settings);
    ASSERT_TRUE(recorded) << test::messages(recorded.error());
  }
  CheckReport checked(const CheckSettings& settings = {}) {
    const auto report = check(model_.open(), folder_, settings);
    if (!report) ADD_FAILURE() << test::messages(report.error());
    return report.value_or(CheckReport{});
  }
  void replace(const std::string& what, const std::string& with) {
    std::string changed = test::read_file(model_.path());
    ASSERT_NE(changed.find(what), std::string::npos);
    changed.replace(changed.find(what), what.size(), with);
    model_.folder.write("model.ridge", changed);
  }
  static const CheckedQuery& query(const CheckReport& report, const std::string& name) {
    for (const CheckedQuery& q : report.queries) {
      if (q.query == name) return q;
    }
    ADD_FAILURE() << "no query " << name;
    return report.queries.front();
  }
};

TEST_F(CheckTest, RealsMayBeApartByTheTolerance) {
  record();
  replace("avg(r for t)", "avg(r * 1.00000001 for t)");
  EXPECT_FALSE(checked().passed());
  CheckSettings loose;
  loose.tolerance = {1e-7, 0};
  EXPECT_TRUE(checked(loose).passed());
  loose.tolerance = {0, 1e-3};
  EXPECT_TRUE(checked(loose).passed());
  loose.tolerance = {1, 1};
  replace("sum(x for t)", "sum(x + 0.01 for t)");
  EXPECT_FALSE(checked(loose).passed()) << "exact numbers are compared exactly";
}

TEST_F(CheckTest, ADifferenceIsNarrowedDown) {
  record();
  replace("sum(x for t)", "sum(case when g = \"a\" then x + 1 else x end for t)");
  const CheckReport report = checked();
  EXPECT_EQ(report.changed, "measure s");
  EXPECT_EQ(query(report, "groups").comparison.differences, 2U);
  const auto narrowed = query(report, "groups").narrowing;
  ASSERT_TRUE(narrowed);
  EXPECT_EQ(narrowed->measure, "s");
  ASSERT_FALSE(narrowed->sources.empty());
  EXPECT_EQ(narrowed->sources[0].column, "t.g");
  EXPECT_EQ(narrowed->sources[0].values, (std::vector<std::string>{"a: +2"}));
  EXPECT_EQ(narrowed->rows.size(), 2U);
  EXPECT_FALSE(query(report, "total").narrowing) << "once is enough";
  const std::string shown = render(juniper::report(report));
  for (const char* says : {"FAILED: 3 of 3 differ", "measure s", "The difference of s", "+2.00"})
    EXPECT_NE(shown.find(says), std::string::npos) << says << "\n" << shown;
}

TEST_F(CheckTest, ChosenResultsAreAccepted) {
  record();
  replace("sum(x for t)", "max(x for t)");
  CheckSettings settings;
  settings.accept = {"total", "groups"};
  const CheckReport first = checked(settings);
  EXPECT_FALSE(first.passed()) << "one was not accepted";
  EXPECT_TRUE(query(first, "total").passed());
  EXPECT_EQ(regress::read_folder(folder_)->models.size(), 2U);
  const CheckReport second = checked();
  EXPECT_EQ(query(second, "total").state, CheckState::same);
  EXPECT_EQ(query(second, "groups").state, CheckState::same);
  EXPECT_EQ(query(second, "rated_groups").state, CheckState::different);
  // On other data, each is compared with the model that its result was accepted from.
  model_.folder.write("t.csv", "id,g,x,r\n1,a,1.50,0.1\n2,b,2.00,0.2\n");
  const CheckReport third = checked();
  EXPECT_EQ(third.compared_with, ComparedWith::base_on_data);
  EXPECT_EQ(query(third, "groups").state, CheckState::same);
  settings.accept = {"rated_groups"};
  const CheckReport fourth = checked(settings);
  EXPECT_TRUE(query(fourth, "rated_groups").accepted);
  EXPECT_TRUE(fourth.passed());
  EXPECT_EQ(regress::read_folder(folder_)->models.size(), 1U) << "what nobody needs goes";
  settings.accept = {"totals"};
  EXPECT_EQ(test::codes(check(model_.open(), folder_, settings).error()), "JR-909");
}

TEST_F(CheckTest, AnotherModelCanBeTheBase) {
  std::string other = text;
  other.replace(other.find("sum(x for t)"), 12, "sum(x - 1 for t)");
  model_.folder.write("other.ridge", other);
  CheckSettings settings;
  settings.base = model_.folder.path("other.ridge");
  const CheckReport report = checked(settings);
  EXPECT_EQ(report.compared_with, ComparedWith::base);
  EXPECT_EQ(report.folder, "");
  EXPECT_FALSE(report.data_changed);
  EXPECT_EQ(report.changed, "measure s");
  EXPECT_EQ(query(report, "total").comparison.samples[0].expected, "9.75");
  settings.accept = {"total"};
  EXPECT_EQ(test::codes(check(model_.open(), folder_, settings).error()), "JR-909");
}

TEST_F(CheckTest, ARevisionCanBeTheBase) {
  const std::string git = "git -C " + model_.folder.path() + " -c user.name=a -c user.email=a@example.com ";
  ASSERT_EQ(std::system((git + "init -q && " + git + "add model.ridge && " + git + "commit -q -m one").c_str()), 0);
  CheckSettings settings;
  settings.base_revision = "HEAD";
  EXPECT_TRUE(checked(settings).passed());
  replace("sum(x for t)", "max(x for t)");
  const CheckReport report = checked(settings);
  EXPECT_EQ(report.base, "HEAD");
  EXPECT_EQ(query(report, "total").state, CheckState::different);
  for (const char* revision : {"nowhere", "--all"}) {
    settings.base_revision = revision;
    EXPECT_EQ(test::codes(check(model_.open(), folder_, settings).error()), "JR-908");
  }
}

TEST_F(CheckTest, FilesAndLogsBringQueries) {
  BaselineSettings settings;
  settings.query_files = {
      model_.folder.write("more.ridge", "query largest \"One\" { by t.g show max(x for t) as m }\n")};
  settings.log =
      model_.folder.write("log.jsonl",
                          "{\"time\": \"2025-03-01T08:00:00\", \"query\": \"total\", \"user\": \"anna\"}\n"
                          "{\"query\": \"by t.g show rated\", \"set\": {\"rate\": \"3\"}, \"user\": \"bert\"}\n\n"
                          "{\"query\": \"by t.g show rated\", \"set\": {\"rate\": \"3\"}, \"user\": \"bert\"}\n"
                          "{\"query\": \"by t.g show rated\"}\n{\"query\": \"total\"}\n");
  const auto recorded = baseline(model_.open(), folder_, settings);
  ASSERT_TRUE(recorded) << test::messages(recorded.error());
  ASSERT_EQ(recorded->queries.size(), 6U);
  EXPECT_EQ(recorded->queries[1].asked, 2U) << "total";
  EXPECT_EQ(recorded->queries[4].asked, 2U) << "with another rate";
  EXPECT_TRUE(recorded->queries[4].query.starts_with("log-"));
  EXPECT_TRUE(checked().passed());
  const regress::Folder folder = *regress::read_folder(folder_);
  const regress::RecordedResult& rated = folder.results.at(recorded->queries[4].query);
  EXPECT_EQ(to_text(rated.result.rows[0].cells[1], rated.result.columns[1].type), "32.25");
  // A change shows in the queries that only files and logs have.
  replace("s * rate", "s * rate + 1");
  const CheckReport report = checked();
  EXPECT_EQ(query(report, recorded->queries[4].query).state, CheckState::different);
  EXPECT_EQ(query(report, "largest").state, CheckState::same);
  replace("param rate = 2", "param prize = 2");
  replace("s * rate + 1", "s * prize");
  EXPECT_EQ(query(checked(), recorded->queries[4].query).state, CheckState::failed);
  for (const auto& [file, content] :
       std::map<std::string, std::string>{{"a.ridge", "query total { show s }"},
                                          {"b.ridge", "query x { show s } query x { show a }"},
                                          {"c.ridge", "measure m = 1"}}) {
    settings.query_files = {model_.folder.write(file, content)};
    EXPECT_EQ(test::codes(baseline(model_.open(), folder_, settings).error()), "JR-906") << content;
  }
  settings.query_files = {model_.folder.path("none.ridge")};
  EXPECT_EQ(test::codes(baseline(model_.open(), folder_, settings).error()), "JR-001");
}

TEST_F(CheckTest, NumbersOfSomebodyElseAreExpected) {
  BaselineSettings settings;
  settings.expected["groups"] = model_.folder.write("g.csv", "s,t.g,a\n10.75,a,0.05\n2,b,0.2\n12.8,,0.100\n");
  record(settings);
  const CheckReport report = checked();
  EXPECT_TRUE(report.passed());
  ASSERT_TRUE(query(report, "groups").expected);
  EXPECT_EQ(query(report, "groups").expected->cells, 6U) << "the last line is the total: no row has a null key";
  // Recording again keeps what is expected.
  record();
  settings.expected["groups"] = model_.folder.write("g.csv", "t.g,s\na,10.74\nc,1");  // as many write it: no line end
  record(settings);
  const CheckReport wrong = checked();
  EXPECT_FALSE(wrong.passed());
  const Comparison& compared = *query(wrong, "groups").expected;
  EXPECT_EQ(compared.differences, 3U) << "a value, a row that is missing, and one that is not expected";
  EXPECT_EQ(compared.samples[0].expected, "10.74");
  EXPECT_EQ(compared.samples[0].found, "10.75");
  EXPECT_EQ(compared.samples[1].kind, DifferenceKind::missing_row);
  EXPECT_EQ(compared.samples[2].kind, DifferenceKind::extra_row);
  for (const auto& [content, line] : std::map<std::string, std::uint32_t>{{"", 1},
                                                                          {"t.g,x\na,1\n", 1},
                                                                          {"s\n1\n", 1},
                                                                          {"t.g,s,s\na,1,1\n", 1},
                                                                          {"t.g,s\na,one\n", 2},
                                                                          {"t.g,s\na,1\nb\n", 3}}) {
    settings.expected["groups"] = model_.folder.write("g.csv", content);
    const auto recorded = baseline(model_.open(), folder_, settings);
    ASSERT_FALSE(recorded) << content;
    EXPECT_EQ(recorded.error()[0].code, "JR-905");
    EXPECT_EQ(recorded.error()[0].place.line, line) << content;
  }
  settings.expected = {{"group", "g.csv"}};
  EXPECT_EQ(test::codes(baseline(model_.open(), folder_, settings).error()), "JR-905");
}

TEST_F(CheckTest, BudgetsAreKept) {
  replace("query total {", "query total \"All\" within 0.001 us {");
  replace("query groups {", "query groups within 1000 s {");
  record();
  CheckReport report = checked();
  EXPECT_FALSE(report.passed());
  EXPECT_FALSE(query(report, "total").passed());
  EXPECT_EQ(query(report, "total").budget->allowed_nanoseconds, 1);
  EXPECT_EQ(query(report, "groups").budget->allowed_nanoseconds, 1'000'000'000'000);
  EXPECT_FALSE(query(report, "rated_groups").budget);
  CheckSettings settings;
  settings.budgets =
      model_.folder.write("budgets.txt", "# generous\n\ntotal within 2000 s\n  rated_groups within 5e5 ms\n");
  report = checked(settings);
  EXPECT_TRUE(report.passed());
  EXPECT_EQ(query(report, "rated_groups").budget->allowed_nanoseconds, 500'000'000'000);
  for (const char* wrong : {"total 5 ms", "total within 5", "total within 5 hours", "total within -1 ms",
                            "total within 1e300 s", "totals within 5 ms"}) {
    settings.budgets = model_.folder.write("budgets.txt", std::string("\n") + wrong);
    const auto failed = check(model_.open(), folder_, settings);
    ASSERT_FALSE(failed) << wrong;
    EXPECT_EQ(failed.error()[0].code, "JR-907");
    EXPECT_EQ(failed.error()[0].place.line, 2U);
  }
}

TEST_F(CheckTest, TimesAreComparedInTurn) {
  record();
  CheckSettings settings;
  settings.speed = SpeedCheck::warm_and_cold;
  settings.timing.seconds = 0.05;
  const CheckReport report = checked(settings);
  for (const CheckedQuery& q : report.queries) {
    ASSERT_TRUE(q.warm);
    ASSERT_TRUE(q.cold);
    EXPECT_GT(q.warm->runs, 0U);
    EXPECT_GT(q.warm->ratio, 0);
    EXPECT_GT(q.cold->runs, 0U);
  }
  EXPECT_EQ(report.allowed_ratio, 1.1);
  CheckReport slower = report;
  for (CheckedQuery& q : slower.queries) q.warm->verdict = q.cold->verdict = SpeedVerdict::same;
  EXPECT_TRUE(slower.passed());
  slower.queries[0].warm->verdict = SpeedVerdict::slower;
  EXPECT_FALSE(slower.passed());
  EXPECT_NE(render(juniper::report(slower)).find("FAILED: 1 of 3 slower"), std::string::npos);
  for (const auto& entry : std::filesystem::directory_iterator(model_.folder.path()))
    EXPECT_EQ(entry.path().string().find(".base"), std::string::npos) << entry.path() << " was left";
}

TEST_F(CheckTest, TimesThatDoNotTellPassUnlessTheyAreToFail) {
  record();
  CheckSettings settings;
  settings.speed = SpeedCheck::warm;
  settings.timing.most_runs = 1;
  for (const bool fails : {false, true}) {
    settings.undecided_fails = fails;
    const CheckReport report = checked(settings);
    for (const CheckedQuery& q : report.queries) EXPECT_TRUE(q.is_undecided());
    EXPECT_EQ(report.passed(), !fails);
    const std::string shown = render(juniper::report(report));
    EXPECT_EQ(shown.find("FAILED: 3 of 3 undecided") != std::string::npos, fails) << shown;
    EXPECT_NE(shown.find("Of 3 queries the times are too noisy, or too few, to tell"), std::string::npos) << shown;
    pugi::xml_document document;
    ASSERT_TRUE(document.load_string(to_junit(report, "x").c_str()));
    const pugi::xml_node suite = document.child("testsuites").child("testsuite");
    EXPECT_EQ(suite.attribute("failures").as_int(), fails ? 3 : 0);
    EXPECT_EQ(suite.attribute("skipped").as_int(), fails ? 0 : 3);
  }
}

TEST_F(CheckTest, IsJunitForBuildServers) {
  BaselineSettings recording;
  recording.expected["total"] = model_.folder.write("e.csv", "s\n12.75\n");
  record(recording);
  replace("sum(x for t)", "sum(x + 1 for t)");
  replace("query rated_groups", "query `a <new> & one`");
  CheckSettings settings;
  settings.budgets = model_.folder.write("budgets.txt", "total within 0.001 us\n");
  const CheckReport report = checked(settings);
  const std::string path = model_.folder.path("junit.xml");
  ASSERT_TRUE(write_junit(report, "charging <network>", path));
  pugi::xml_document document;
  ASSERT_TRUE(document.load_file(path.c_str()));
  const pugi::xml_node suite = document.child("testsuites").child("testsuite");
  EXPECT_STREQ(suite.attribute("name").value(), "charging <network>");
  EXPECT_EQ(suite.attribute("tests").as_int(), 6);
  EXPECT_EQ(suite.attribute("failures").as_int(), 5);
  EXPECT_EQ(suite.attribute("skipped").as_int(), 1);
  const pugi::xml_node total = suite.find_child([](pugi::xml_node n) {
    return std::string(n.attribute("name").value()) == "total" &&
           std::string(n.attribute("classname").value()) == "values";
  });
  EXPECT_NE(std::string(total.child("failure").text().get()).find("expected 12.75, found 15.75"), std::string::npos);
  EXPECT_EQ(test::codes(write_junit(report, "x", model_.folder.path("no/folder.xml")).error()), "JR-009");
  // Every character that XML can't hold, wherever data and names stand.
  std::string harmful;
  for (char c = 1; c < 32; ++c) harmful += c;
  harmful += "\x7F\xFF\xEF\xBF\xBF]]>\xE2\x80\xAE";
  CheckReport forged = report;
  for (CheckedQuery& checked_query : forged.queries) {
    checked_query.query = harmful;
    for (Difference& d : checked_query.comparison.samples) d = {d.kind, harmful, harmful, harmful, harmful, harmful};
  }
  const std::string xml = to_junit(forged, harmful);
  EXPECT_TRUE(document.load_string(xml.c_str()));
  for (const char c : xml) EXPECT_TRUE(static_cast<unsigned char>(c) >= 32 || c == '\n' || c == '\t') << xml;
  EXPECT_EQ(xml.find("\xEF\xBF\xBF"), std::string::npos);
}

TEST_F(CheckTest, ManyThatAreTheSameAreNotListed) {
  std::string more = text;
  for (int i = 0; i < 100; ++i) more += fmt::format("query q{} {{ show {} as x{} }}\n", i, i == 70 ? "a" : "s", i);
  model_.folder.write("model.ridge", more);
  record();
  replace("avg(r for t)", "max(r for t)");
  const CheckReport report = checked();
  const std::string shown = render(juniper::report(report));
  EXPECT_NE(shown.find("q70"), std::string::npos);
  EXPECT_EQ(shown.find("q71"), std::string::npos);
  EXPECT_NE(shown.find("101 queries are the same, and not listed."), std::string::npos) << shown;
  EXPECT_LT(std::count(shown.begin(), shown.end(), '\n'), 45) << "one screen";
  const std::string json = render(juniper::report(report), {Format::json, Color::off});
  EXPECT_NE(json.find("\"q71\""), std::string::npos);
  EXPECT_EQ(json.find(" more"), std::string::npos) << "what is for people alone";
}

TEST_F(CheckTest, ClientsGetTheRightAnswers) {
  ReplaySettings settings;
  settings.clients = 3;
  settings.seconds = 0.3;
  const auto report = replay(model_.open(), settings);
  ASSERT_TRUE(report) << test::messages(report.error());
  EXPECT_TRUE(report->passed());
  EXPECT_EQ(report->queries, 3U);
  EXPECT_GT(report->answers, 3U);
  EXPECT_LE(report->median_nanoseconds, report->p99_nanoseconds);
  settings.log = model_.folder.write("log.jsonl", "{\"query\": \"by t.g show rated\", \"set\": {\"rate\": \"3\"}}\n");
  EXPECT_TRUE(replay(model_.open(), settings)->passed());
  settings.log = model_.folder.write("log.jsonl", "{\"query\": \"show nothing\"}\n");
  EXPECT_FALSE(replay(model_.open(), settings));
}

}  // namespace
}  // namespace juniper::check_test
