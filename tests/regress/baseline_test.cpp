#include "juniper/baseline.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <span>

#include "juniper/report.h"
#include "regress/folder.h"
#include "regress/result_file.h"
#include "store/store.h"
#include "support/support.h"

namespace juniper::baseline_test {
namespace {

using regress::Folder;

constexpr const char* model_text = R"(table t from csv "t.csv" { key id integer  g text  x decimal(2)  r real }
measure s = sum(x for t) format "0.00"
measure a = avg(r for t)
query by_group "Groups" { by t.g show s, a total grand }
query total { show s }
)";

test::SmallModel small() {
  return {model_text, {{"t.csv", "id,g,x,r\n1,a,1.50,0.1\n2,\"tab\there\",2.00,0.2\n3,,,\n4,a,9.25,1e-7\n"}}};
}

CheckReport checked(const test::SmallModel& model) {
  const auto report = check(model.open(), model.folder.path("b"));
  if (!report) ADD_FAILURE() << test::messages(report.error());
  return *report;
}

void replace(const test::SmallModel& model, const std::string& what, const std::string& with) {
  std::string changed = test::read_file(model.path());
  ASSERT_NE(changed.find(what), std::string::npos);
  changed.replace(changed.find(what), what.size(), with);
  model.folder.write("model.ridge", changed);
}

namespace fs = std::filesystem;

std::map<std::string, std::string> texts_in(const fs::path& folder) {
  std::map<std::string, std::string> texts;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    if (entry.is_regular_file()) texts.emplace(entry.path().lexically_relative(folder), test::read_file(entry.path()));
  }
  return texts;
}

class BaselineTest : public testing::Test {
 protected:
  test::SmallModel model_ = small();
  void SetUp() override {
    const auto recorded = baseline(model_.open(), model_.folder.path("b"));
    ASSERT_TRUE(recorded) << test::messages(recorded.error());
    ASSERT_EQ(recorded->queries.size(), 2U);
  }
};

TEST_F(BaselineTest, IsTextThatDiffsWell) {
  const Folder folder = *regress::read_folder(model_.folder.path("b"));
  ASSERT_EQ(folder.models.size(), 1U);
  EXPECT_EQ(folder.models.begin()->second, (std::vector<ModelText>{{"model.ridge", model_text}}));
  EXPECT_EQ(test::read_file(model_.folder.path("b/by_group.result")),
            "juniper baseline 2\nquery\tby_group\nmodel\t" + folder.models.begin()->first +
                "\nkey\tt.g\ttext\t\nvalue\ts\tdecimal(2)\t0.00\nvalue\ta\treal\t\nlevel\tdetail\tt."
                "g\nlevel\tgrand\nrows\t3\n"
                "0\ta\t10.75\t0.050000050000000004\n0\ttab\\there\t2.00\t0.2\n1\t\\N\t12.75\t0.10000003333333334\n");
  EXPECT_NE(test::read_file(model_.folder.path("b/times.txt")).find("total\t"), std::string::npos);
}

TEST_F(BaselineTest, TheSameModelPasses) {
  const CheckReport report = checked(model_);
  EXPECT_TRUE(report.passed());
  EXPECT_FALSE(report.data_changed);
  ASSERT_EQ(report.queries.size(), 2U);
  EXPECT_EQ(report.queries[0].comparison.cells, 6U);
  EXPECT_GT(report.queries[0].recorded_nanoseconds, 0);
}

TEST_F(BaselineTest, AChangedMeasureFailsInTheQueriesThatShowIt) {
  replace(model_, "avg(r for t)", "avg(r * 2 for t)");
  const CheckReport report = checked(model_);
  EXPECT_FALSE(report.passed());
  EXPECT_EQ(report.queries[0].state, CheckState::different);
  EXPECT_EQ(report.queries[0].comparison.differences, 3U);
  const Difference& first = report.queries[0].comparison.samples[0];
  EXPECT_EQ(first.row, "t.g = \"a\"");
  EXPECT_EQ(first.column, "a");
  EXPECT_EQ(first.expected, "0.050000050000000004");
  EXPECT_EQ(first.found, "0.10000010000000001");
  EXPECT_EQ(report.queries[0].comparison.samples[2].row, "total grand");
  EXPECT_EQ(report.queries[1].state, CheckState::same);
}

TEST_F(BaselineTest, ALostQueryFailsAndANewOneDoesNot) {
  replace(model_, "query total", "query sums");
  const CheckReport report = checked(model_);
  EXPECT_FALSE(report.passed());
  ASSERT_EQ(report.queries.size(), 3U);
  EXPECT_EQ(report.queries[1].query, "total");
  EXPECT_EQ(report.queries[1].state, CheckState::lost);
  EXPECT_EQ(report.queries[2].state, CheckState::added);
}

TEST_F(BaselineTest, RowsFormatsTypesAndOrderAreCompared) {
  replace(model_, "show s, a total grand", "show s, a where t.id > 2 total grand");
  EXPECT_EQ(checked(model_).queries[0].comparison.samples[2].kind, DifferenceKind::missing_row);
  replace(model_, "where t.id > 2 total grand", "total grand sort s");
  EXPECT_EQ(checked(model_).queries[0].comparison.samples[0].kind, DifferenceKind::order);
  replace(model_, "total grand sort s", "total grand");
  replace(model_, "\"0.00\"", "\"0.0\"");
  const CheckReport report = checked(model_);
  EXPECT_EQ(report.queries[0].comparison.samples[0].kind, DifferenceKind::columns);
  EXPECT_EQ(report.queries[1].state, CheckState::different);
  replace(model_, "\"0.0\"", "\"0.00\"");
  replace(model_, "x decimal(2)", "x decimal(3)");
  EXPECT_EQ(checked(model_).queries[1].comparison.samples[0].kind, DifferenceKind::columns);
}

// On other data the recorded numbers tell nothing: the recorded model is run over it instead.
TEST_F(BaselineTest, ChangedDataIsToldApart) {
  model_.folder.write("t.csv", "id,g,x,r\n1,a,1.50,0.1\n2,\"tab\there\",2.00,0.2\n3,,,\n4,b,9.25,1e-7\n");
  const CheckReport data = checked(model_);
  EXPECT_TRUE(data.data_changed);
  EXPECT_FALSE(data.model_changed);
  EXPECT_EQ(data.compared_with, ComparedWith::base_on_data);
  EXPECT_TRUE(data.passed());
  EXPECT_EQ(data.queries[0].comparison.cells, 8U);
  replace(model_, "sum(x for t)", "max(x for t)");
  const CheckReport both = checked(model_);
  EXPECT_TRUE(both.data_changed);
  EXPECT_TRUE(both.model_changed);
  EXPECT_EQ(both.changed, "measure s");
  EXPECT_EQ(both.queries[1].comparison.samples[0].expected, "12.75");
  EXPECT_EQ(both.queries[1].comparison.samples[0].found, "9.25");
  replace(model_, "max(x for t)", "sum(x for t)");
  replace(model_, "avg(r for t)", "avg(r for t)  # of those that have one");
  const CheckReport comment = checked(model_);
  EXPECT_TRUE(comment.passed());
  EXPECT_TRUE(comment.model_changed);
  EXPECT_EQ(comment.changed, "");
}

TEST_F(BaselineTest, RecordingAgainReplacesOnlyWhatIsTheSameUnlessItIsTold) {
  const std::string folder = model_.folder.path("b");
  const auto states = [](const BaselineReport& report) {
    std::string text;
    for (const RecordedQuery& q : report.queries)
      text += q.query + (q.state == RecordedState::same ? "=" : q.state == RecordedState::added ? "+" : "!");
    return text;
  };
  const auto again = baseline(model_.open(), folder);
  ASSERT_TRUE(again);
  EXPECT_TRUE(again->has_earlier && again->is_written);
  EXPECT_EQ(again->replaced(), 0U);
  EXPECT_EQ(states(*again).find_first_of("!+"), std::string::npos) << states(*again);
  const auto kept = texts_in(folder);
  // One result is another, one query new.
  replace(model_, "sum(x for t)", "sum(x + 1 for t)");
  model_.folder.write("model.ridge", test::read_file(model_.path()) + "query more { show n = count(t) }\n");
  BaselineSettings settings;
  for (const bool told : {false, true}) {
    settings.replace = told;
    const auto report = baseline(model_.open(), folder, settings);
    ASSERT_TRUE(report);
    EXPECT_EQ(report->is_written, told);
    EXPECT_GT(report->replaced(), 0U);
    EXPECT_NE(states(*report).find("more+"), std::string::npos);
    EXPECT_EQ(texts_in(folder) == kept, !told);
    const std::string shown = render(juniper::report(*report));
    EXPECT_NE(shown.find(told ? "recorded again" : "NOT RECORDED"), std::string::npos) << shown;
    EXPECT_EQ(shown.find("--replace") != std::string::npos, !told) << shown;
  }
  EXPECT_TRUE(checked(model_).passed());
  EXPECT_NE(texts_in(folder), kept);
}

// Expected numbers of somebody else would be lost with their query, too.
TEST_F(BaselineTest, RecordingAgainDropsLostQueriesWhenItIsTold) {
  replace(model_, "query total", "query `s/um`");
  BaselineSettings settings;
  const auto refused = baseline(model_.open(), model_.folder.path("b"), settings);
  ASSERT_TRUE(refused);
  EXPECT_FALSE(refused->is_written);
  EXPECT_EQ(refused->dropped, (std::vector<std::string>{"total"}));
  EXPECT_TRUE(std::filesystem::exists(model_.folder.path("b/total.result")));
  settings.replace = true;
  const auto again = baseline(model_.open(), model_.folder.path("b"), settings);
  ASSERT_TRUE(again);
  EXPECT_EQ(again->dropped, (std::vector<std::string>{"total"}));
  EXPECT_TRUE(std::filesystem::exists(model_.folder.path("b/s%2Fum.result")));
  EXPECT_FALSE(std::filesystem::exists(model_.folder.path("b/total.result")));
  EXPECT_TRUE(checked(model_).passed());
}

TEST(ResultFile, WhatIsDamagedIsToldWithItsLine) {
  const auto fails = [&](const std::string& content, std::uint32_t line) {
    const auto read = regress::read_result("total.result", content);
    ASSERT_FALSE(read) << content;
    EXPECT_EQ(read.error()[0].code, "JR-904");
    EXPECT_EQ(read.error()[0].place, (Place{"total.result", line, 0})) << content;
  };
  const std::string head = "juniper baseline 2\nquery\ttotal\nvalue\ts\tdecimal(2)\t0.00\nlevel\tdetail\n";
  fails("", 0);
  fails("something\n", 1);
  fails("juniper baseline 2\nquery\ttotal\nvalue\ts\tdecimals\t\n", 3);
  fails(head, 4);
  fails(head + "rows\t2\n0\t1.00\n", 6);
  fails(head + "rows\t1\n0\t1.00\n0\t1.00\n", 7);
  fails(head + "rows\t1\n0\tx\n", 6);
  fails(head + "rows\t1\n7\t1.00\n", 6);
  fails(head + "rows\t1\n0\t1.00\t2\n", 6);
}

// Every bit of a byte of each file, and each length that it may be cut to.
TEST_F(BaselineTest, NoChangedByteIsTakenForABaseline) {
  const Dataset dataset = model_.open();
  const std::string folder = model_.folder.path("b");
  std::size_t tried = 0;
  const auto fails = [&](const std::string& name, const std::string& text) {
    model_.folder.write("b/" + name, text);
    const auto report = check(dataset, folder);
    ++tried;
    ASSERT_FALSE(report) << name << "\n" << text;
    const std::string& code = report.error()[0].code;
    EXPECT_TRUE(code == "JR-904" || (code == "JR-903" && name == "seal.txt")) << name << " " << code;
  };
  for (const auto& [name, text] : texts_in(folder)) {
    const std::size_t step = test::is_sanitized ? 7 : 1;
    for (std::size_t at = 0; at < text.size(); at += step) {
      std::string changed = text;
      changed[at] = static_cast<char>(changed[at] ^ (1 << (at % 8)));
      fails(name, changed);
      if (!(name == "seal.txt" && text[at - (at == 0 ? 0 : 1)] == '\n')) fails(name, text.substr(0, at));
    }
    model_.folder.write("b/" + name, text);
  }
  EXPECT_TRUE(checked(model_).passed());
  EXPECT_GT(tried, 200U);
}

// A stranger's baseline, whose seal is right whatever it says: it is compared or refused, and leads nowhere else.
TEST_F(BaselineTest, WhateverAForgedOneSaysIsComparedOrRefused) {
  std::mt19937_64 random(test::test_seed(22));
  const Dataset dataset = model_.open();
  const std::string folder = model_.folder.path("b");
  const auto whole = texts_in(folder);
  std::vector<std::string> names;
  for (const auto& [name, text] : whole)
    if (name != "seal.txt") names.push_back(name);
  const std::vector<std::string> pieces{"\t",
                                        "\n",
                                        "99999999999999999999",
                                        "18446744073709551615",
                                        "-1",
                                        "\\",
                                        "\0",
                                        "file\tx\t",
                                        "rows\t",
                                        "level\t",
                                        "key\t",
                                        "value\tv\treal\t",
                                        "\xff",
                                        "../"};
  std::size_t compared = 0;
  for (std::size_t i = 0; i < test::test_count(200); ++i) {
    auto texts = whole;
    std::string& text = texts[names[random() % names.size()]];
    for (std::size_t n = 0; n <= random() % 3; ++n) {
      const std::size_t at = random() % (text.size() + 1);
      const std::size_t bytes = random() % 2 == 0 ? 0 : random() % 12;
      text.replace(at, bytes, pieces[random() % pieces.size()]);
    }
    std::string seal = "juniper seal 1\n";
    for (const std::string& name : names) {
      model_.folder.write("b/" + name, texts[name]);
      seal += fmt::format("{:016x}\t{}\n", store::hash_bytes(std::as_bytes(std::span(texts[name]))), name);
    }
    model_.folder.write("b/seal.txt", seal);
    const auto report = check(dataset, folder);
    if (report) ++compared;
  }
  EXPECT_GT(compared, 0U);
  const std::string outside = model_.folder.write("outside", "precious");
  for (const char* const name : {"../outside", "/etc/passwd", "models/../../outside", "./data.txt", "", "x//y"}) {
    model_.folder.write("b/seal.txt", fmt::format("juniper seal 1\n{:016x}\t{}\n", 0, name));
    EXPECT_EQ(test::codes(check(dataset, folder).error()), "JR-904") << name;
    EXPECT_EQ(test::codes(baseline(dataset, folder).error()), "JR-904") << name;
  }
  EXPECT_EQ(test::read_file(outside), "precious");
}

TEST_F(BaselineTest, FilesOfSomebodyElseStay) {
  model_.folder.write("b/README.md", "what this is");
  model_.folder.write("b/reviews/2025.txt", "good");
  ASSERT_TRUE(baseline(model_.open(), model_.folder.path("b")));
  CheckSettings settings;
  settings.accept = {"total"};
  ASSERT_TRUE(check(model_.open(), model_.folder.path("b"), settings));
  EXPECT_EQ(test::read_file(model_.folder.path("b/README.md")), "what this is");
  EXPECT_EQ(test::read_file(model_.folder.path("b/reviews/2025.txt")), "good");
  EXPECT_TRUE(checked(model_).passed());
}

TEST_F(BaselineTest, WritesOnlyIntoItsOwnFolders) {
  model_.folder.write("mine/letter.txt", "dear");
  EXPECT_EQ(baseline(model_.open(), model_.folder.path("mine")).error()[0].code, "JR-902");
  EXPECT_EQ(baseline(model_.open(), model_.path()).error()[0].code, "JR-902");
  EXPECT_EQ(check(model_.open(), model_.folder.path("none")).error()[0].code, "JR-903");
  EXPECT_EQ(baseline_path("x/charging.ridge"), "x/charging.baseline");
}

TEST(ResultFile, IsReadBackForEveryType) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  b boolean  d date  at datetime  tm time  s text  r real  x "
      "decimal(18) }",
      {{"t.csv",
        "id,b,d,at,tm,s,r,x\n1,true,2024-02-29,2024-02-29 "
        "01:02:03.5,23:59:59.999999,\"a\\b\r\nc\td\",1e300,0.000000000000000001\n2,,,,,\"\",-0.1,-9\n3,,,,,,,\n"}});
  const auto result = ask(model.open(), {"by t.id, t.s, t.d, t.b, t.r show max(at for t) as at, max(tm for t) as tm, "
                                         "sum(x for t) as x, min(s for t) as m, count(t) total t.s, grand",
                                         {}});
  ASSERT_TRUE(result) << test::messages(result.error());
  regress::RecordedResult recorded{"q\t", "by t.id show\nx", {{"p", "a\tb"}, {"q", ""}}, 7, "0123", *result};
  const std::string written = regress::write_result(recorded);
  const auto read = regress::read_result("f", written);
  ASSERT_TRUE(read) << test::messages(read.error());
  EXPECT_TRUE(compare(*result, read->result).same());
  EXPECT_EQ(regress::write_result(*read), written);
  EXPECT_EQ(read->query, recorded.query);
  EXPECT_EQ(read->text, recorded.text);
  EXPECT_EQ(read->set, recorded.set);
  EXPECT_EQ(read->asked, 7U);
}

}  // namespace
}  // namespace juniper::baseline_test
