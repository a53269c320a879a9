// The tool as a process: what it prints where, and its exit status.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <chrono>
#include <map>
#include <nlohmann/json.hpp>
#include <random>

#include "base/shown_text.h"
#include "juniper/demo.h"
#include "support/support.h"

namespace juniper::tool_test {
namespace {

using test::run_tool;

class ToolTest : public testing::Test {
 protected:
  test::TempFolder folder_;
  std::string model_ = folder_.path("d/charging.ridge");

  void SetUp() override { ASSERT_TRUE(write_demo(folder_.path("d"), {1500, 4})); }
  void rewrite(const std::string& what, const std::string& with) const {
    std::string text = test::read_file(model_);
    ASSERT_NE(text.find(what), std::string::npos);
    text.replace(text.find(what), what.size(), with);
    folder_.write("d/charging.ridge", text);
  }
  // One call of each command that prints a result.
  std::vector<std::vector<std::string>> commands() const {
    return {{"load", model_},
            {"weigh", model_},
            {"links", model_},
            {"audit", model_},
            {"ask", model_, "monthly"},
            {"ask", model_, "plans", "--plan", "engine"},
            {"explain", model_, "monthly"},
            {"describe", model_},
            {"unfold", model_, "price"},
            {"draft", model_, "measure price = revenue / (energy + 1)"},
            {"refactor", model_, "inline", "sessions.gross", "--probes", "20"},
            {"baseline", model_},
            {"check", model_}};
  }
};

void expect_error(const test::ProcessResult& run, int status, const std::string& code) {
  EXPECT_EQ(run.status, status) << run.err;
  EXPECT_EQ(run.out, "");
  EXPECT_NE(run.err.find(code), std::string::npos) << run.err;
}

// Every command answers what does not rest on it, with what is wrong beside, and with an exit status that tells.
TEST_F(ToolTest, OneWrongDefinitionStopsNoCommand) {
  std::vector<std::vector<std::string>> each = commands();
  std::map<std::string, std::string> before;
  for (const auto& command : each) before[command[0] + command.back()] = run_tool(command).out;
  rewrite("measure old_sessions   = count(", "measure old_sessions   = coumt(");
  for (std::vector<std::string> command : each) {
    const auto result = run_tool(command);
    EXPECT_EQ(result.status, 1) << command[0] << result.err;
    EXPECT_FALSE(result.out.empty()) << command[0];
    EXPECT_NE(result.err.find("JR-205"), std::string::npos) << command[0] << result.err;
    EXPECT_NE(result.err.find("measure old_sessions, query arrivals [JR-220]"), std::string::npos) << result.err;
    if (command[0] == "ask") {
      const auto rows = [](const std::string& out) { return out.substr(0, out.rfind("\n\n")); };
      EXPECT_EQ(rows(result.out), rows(before[command[0] + command.back()]));
    }
    command.emplace_back("--strict");
    const auto strict = run_tool(command);
    EXPECT_EQ(strict.status, 3) << command[0];
    EXPECT_EQ(strict.out, "") << command[0];
  }
  const auto disabled = run_tool({"ask", model_, "arrivals"});
  EXPECT_EQ(disabled.status, 3);
  EXPECT_NE(disabled.err.find("JR-219"), std::string::npos) << disabled.err;
}

TEST_F(ToolTest, ResultsGoToStdoutAndNothingElse) {
  for (const std::vector<std::string>& command : commands()) {
    const auto run = run_tool(command);
    EXPECT_EQ(run.status, command[0] == "audit" ? 1 : 0) << command[0] << run.err;  // it has findings
    // The demo's calendar lacks days, which a load says.
    if (command[0] == "load") {
      EXPECT_NE(run.err.find("[JR-525]"), std::string::npos) << run.err;
    } else {
      EXPECT_EQ(run.err, "") << command[0];
    }
    EXPECT_NE(run.out, "") << command[0];
    EXPECT_EQ(run.out.find('\033'), std::string::npos) << command[0];
  }
}

TEST_F(ToolTest, EveryCommandSpeaksJsonCsvAndMarkdown) {
  run_tool({"baseline", model_});
  for (const std::vector<std::string>& command : commands()) {
    const auto with = [&](const std::string& format) {
      std::vector<std::string> words = command;
      words.insert(words.end(), {"--format", format});
      return run_tool(words);
    };
    const auto as_json = with("json");
    EXPECT_TRUE(nlohmann::json::accept(as_json.out)) << command[0] << as_json.out << as_json.err;
    const std::string csv = with("csv").out;
    EXPECT_GT(std::count(csv.begin(), csv.end(), '\n'), 1) << command[0];
    EXPECT_NE(with("markdown").out.find("|---"), std::string::npos) << command[0];
  }
  // Texts, and single things.
  for (const auto& [command, name] : std::vector<std::pair<std::vector<std::string>, std::string>>{
           {{"sql", model_, "monthly"}, "statement"},
           {{"scan", folder_.path("d/data/tariffs.csv")}, "text"},
           {{"describe", model_, "price"}, "definition"}}) {
    std::vector<std::string> words = command;
    words.insert(words.end(), {"--format", "json"});
    const auto json = nlohmann::json::parse(run_tool(words).out);
    ASSERT_TRUE(json.contains(name)) << command[0];
    words.back() = "csv";
    const std::string csv = run_tool(words).out;
    EXPECT_NE(csv.find(name), std::string::npos) << csv;
    EXPECT_GT(csv.size(), json[name].get<std::string>().size());
    words.back() = "markdown";
    EXPECT_NE(run_tool(words).out, "") << command[0];
  }
  EXPECT_NE(run_tool({"weigh", model_, "--color", "always"}).out.find('\033'), std::string::npos);
}

// The lines of a CSV text; those within quotes belong to a field.
std::size_t records_of(const std::string& csv) {
  bool quoted = false;
  std::size_t records = 0;
  for (const char c : csv) {
    if (c == '"') quoted = !quoted;
    if (c == '\n' && !quoted) ++records;
  }
  return records;
}

TEST_F(ToolTest, CsvHoldsEachTableThatJsonNames) {
  for (std::vector<std::string> command : commands()) {
    command.insert(command.end(), {"--format", "json"});
    if (command[0] == "baseline") command.emplace_back("--replace");
    const auto json = nlohmann::json::parse(run_tool(command).out);
    command[std::find(command.begin(), command.end(), "json") - command.begin()] = "csv";
    bool has_facts = false;
    for (const auto& [name, member] : json.items()) {
      has_facts = has_facts || !member.is_array();
      if (!member.is_array()) continue;
      std::vector<std::string> words = command;
      words.insert(words.end(), {"--part", name});
      EXPECT_EQ(records_of(run_tool(words).out), member.size() + 1) << command[0] << " " << name;
    }
    if (!has_facts) continue;
    command.insert(command.end(), {"--part", "facts"});
    EXPECT_EQ(records_of(run_tool(command).out), 2U) << command[0];
  }
  const auto wrong = run_tool({"links", model_, "--format", "csv", "--part", "tables"});
  EXPECT_EQ(wrong.status, 2);
  EXPECT_EQ(wrong.out, "");
  EXPECT_NE(wrong.err.find("its parts are links, orphans"), std::string::npos) << wrong.err;
  EXPECT_EQ(run_tool({"links", model_, "--part", "links"}).status, 2);
}

// Whatever the window: a command's lines fit into it, and so do its messages. `--wide` has all there is.
TEST_F(ToolTest, NoLineIsWiderThanTheWindow) {
  run_tool({"baseline", model_});
  std::vector<std::vector<std::string>> each = commands();
  for (const char* const command : {"ask", "audit", "refactor", "check"}) each.push_back({"help", command});
  each.push_back({"help"});
  each.push_back({"describe", model_, "price"});
  each.push_back(
      {"ask", model_, "by days.day show revenue, price, n_sessions, energy, app_revenue, per_session limit 5"});
  each.push_back({"ask", model_, "by stations.region, stations.operator_name, crews.crew show revenue where x = 1"});
  for (const char* const query : {"monthly", "regions", "second_look", "arrivals"})
    each.push_back({"sql", model_, query});
  each.push_back({"scan", "data/sessions-2023.csv"});
  each.push_back({"weigh", model_ + "-that-is-not-there-and-has-a-name-that-goes-on-and-on-until-it-fills-the-line"});
  for (std::vector<std::string> command : each) {
    if (command[0] == "baseline") command.emplace_back("--replace");
    for (const std::size_t width : {40U, 80U, 100U, 140U, 200U}) {
      std::vector<std::string> words = command;
      words.insert(words.end(), {"--width", std::to_string(width)});
      const auto run = run_tool(words, folder_.path("d"));
      EXPECT_FALSE(run.out.empty() && run.err.empty());
      for (const std::string& line : test::lines_of(run.out + run.err))
        EXPECT_LE(base::width_of(line), width) << command[0] << ": " << line;
    }
  }
  const auto narrow = run_tool({"weigh", model_, "--width", "80"});
  EXPECT_NE(narrow.out.find("no room for: "), std::string::npos) << narrow.out;
  const auto wide = run_tool({"weigh", model_, "--wide"});
  EXPECT_EQ(wide.out.find("no room for: "), std::string::npos) << wide.out;
  for (const char* const heading : {"dictionary", "codes", "bits/row", "encoding"})
    EXPECT_NE(wide.out.find(heading), std::string::npos) << heading;
}

// Names of 10 kB and values that would command a terminal, in windows of any width.
TEST_F(ToolTest, HostileTextsFitTheWindowAndCommandNothing) {
  const std::string name(10'000, 'n');
  const std::string csv =
      "id,\"he\033[31mad\",other\n1,\"a\033]0;title\a\u202eb\nc\",2\n2," + std::string(10'000, 'v') + ",9\n";
  const test::SmallModel model(
      "model \"M\"\ntable t from csv \"t.csv\" { key id integer  x text from \"he\033[31mad\"  other integer }\n"
      "table u from csv \"u.csv\" { key k integer }\nlink t.other -> u.k\nmeasure " +
          name + " = count(t)\nquery q { by t.x show " + name + " }\n",
      {{"t.csv", csv}, {"u.csv", "k\n2\n"}});
  const std::vector<std::vector<std::string>> each{
      {"load", model.path()},           {"weigh", model.path()},
      {"links", model.path()},          {"audit", model.path()},
      {"ask", model.path(), "q"},       {"describe", model.path()},
      {"describe", model.path(), name}, {"explain", model.path(), "q"},
      {"unfold", model.path(), name},   {"ask", model.path(), "by t.x show " + name + "m"}};
  for (const std::vector<std::string>& command : each) {
    for (const char* const width : {"40", "80", "200"}) {
      std::vector<std::string> words = command;
      words.insert(words.end(), {"--width", width});
      const auto run = run_tool(words);
      const std::string all = run.out + run.err;
      EXPECT_FALSE(all.empty()) << command[0];
      for (const char* const harmful : {"\033", "\a", "\u202e"})
        EXPECT_EQ(all.find(harmful), std::string::npos) << command[0];
      for (const std::string& line : test::lines_of(all))
        ASSERT_LE(base::width_of(line), std::stoul(width)) << command[0] << ": " << line.substr(0, 300);
    }
  }
}

TEST_F(ToolTest, AsksInThreeWays) {
  const std::string query = "by tariffs.plan show revenue, (revenue across tariffs) as all total grand";
  const auto engine = run_tool({"ask", model_, query, "--format", "csv"});
  ASSERT_EQ(engine.status, 0) << engine.err;
  const auto sql = run_tool({"sql", model_, query});
  ASSERT_EQ(sql.status, 0) << sql.err;
  EXPECT_TRUE(sql.out.starts_with("WITH part1 AS MATERIALIZED (")) << sql.out;
  const auto against = run_tool({"ask", model_, query, "--against", "sqlite", "--format", "json"});
  ASSERT_EQ(against.status, 0) << against.err << against.out;
  const auto answer = nlohmann::json::parse(against.out);
  EXPECT_TRUE(answer["same"].get<bool>());
  EXPECT_EQ(answer["different"], 0);
  // Row by row and slice by slice, over a small table.
  const std::string small = "by stations.region show count(stations) as n";
  EXPECT_EQ(run_tool({"ask", model_, small, "--format", "csv", "--plan", "naive"}).out,
            run_tool({"ask", model_, small, "--format", "csv"}).out);
  EXPECT_EQ(run_tool({"ask", model_, query, "--against", "other"}).status, 2);
  // The files alone give the same cells.
  const auto from_store = run_tool({"ask", model_, query, "--format", "csv"});
  const auto from_files = run_tool({"ask", model_, query, "--format", "csv", "--from-sources"});
  ASSERT_EQ(from_files.status, 0) << from_files.err;
  EXPECT_EQ(from_files.out, from_store.out);
  EXPECT_EQ(run_tool({"ask", model_, query, "--plan", "other"}).status, 2);
  for (const std::string amount : {"500XB", "-1"}) {
    const auto memory = run_tool({"ask", model_, query, "--memory=" + amount});
    EXPECT_EQ(memory.status, 2);
    EXPECT_NE(memory.err.find("'" + amount + "' is not an amount of memory: write a number and B, kB, MB or GB"),
              std::string::npos)
        << memory.err;
  }
}

TEST_F(ToolTest, DraftsSettingsAndStrictness) {
  const auto draft = run_tool({"ask", model_, "show price", "--draft", "measure price = 2", "--format", "csv"});
  EXPECT_EQ(draft.status, 0) << draft.err;
  EXPECT_NE(draft.out.find("2"), std::string::npos) << draft.out;
  EXPECT_EQ(run_tool({"ask", model_, "show price", "--draft", "measure price = revnue"}).status, 2);
  EXPECT_EQ(run_tool({"ask", model_, "show price", "--set", "nothing=1"}).status, 2);
  EXPECT_EQ(run_tool({"ask", model_, "show price", "--set", "nothing"}).status, 2);
  const std::string warned = "show (revenue across stations) as r where bays.station_id = 1";
  const auto lenient = run_tool({"ask", model_, warned});
  EXPECT_EQ(lenient.status, 0) << lenient.err;
  EXPECT_NE(lenient.err.find("warning"), std::string::npos) << lenient.err;
  const auto strict = run_tool({"ask", model_, warned, "--strict"});
  EXPECT_EQ(strict.status, 2);
  EXPECT_NE(strict.err.find("JR-412"), std::string::npos) << strict.err;
}

TEST_F(ToolTest, DescribesWhatIsDefined) {
  const auto price = run_tool({"describe", model_, "price", "--format", "json"});
  ASSERT_EQ(price.status, 0) << price.err;
  const auto json = nlohmann::json::parse(price.out);
  EXPECT_EQ(json["rests_on"], "revenue, energy");
  EXPECT_EQ(json["used_by"], "measure station_price, query monthly, query regions");
  EXPECT_EQ(json["definition"], "revenue / energy\n");
  const auto days = run_tool({"describe", model_, "days", "--format", "csv"});
  EXPECT_EQ(std::count(days.out.begin(), days.out.end(), '\n'), 9);  // the header, the table, its seven columns
  EXPECT_NE(days.out.find("calendar days.day"), std::string::npos) << days.out;
  const auto none = run_tool({"describe", model_, "revenu"});
  EXPECT_EQ(none.status, 2);
  EXPECT_NE(none.err.find("did you mean 'revenue'?"), std::string::npos) << none.err;
}

TEST_F(ToolTest, AsksSavedAndTypedQueriesWithConditions) {
  const auto saved = run_tool({"ask", model_, "plans", "--where", "days.year = 2025", "--where",
                               "sessions.channel = \"app\"", "--format", "json"});
  ASSERT_EQ(saved.status, 0) << saved.err;
  const auto typed = run_tool({"ask", model_,
                               "by tariffs.plan show n_sessions where days.year = 2025 and sessions.channel = "
                               "\"app\" total grand sort n_sessions desc",
                               "--format", "json"});
  ASSERT_EQ(typed.status, 0) << typed.err;
  EXPECT_EQ(nlohmann::json::parse(saved.out)["rows"].back()["n_sessions"],
            nlohmann::json::parse(typed.out)["rows"].back()["n_sessions"]);
  const auto from_store = run_tool({"ask", folder_.path("d/charging.jrs"), "monthly", "--format", "csv"});
  EXPECT_EQ(from_store.out, run_tool({"ask", model_, "monthly", "--format", "csv"}).out);
}

TEST_F(ToolTest, WrongUsageIs2) {
  expect_error(run_tool({}), 2, "");
  expect_error(run_tool({"wiegh", model_}), 2, "there is no command 'wiegh'; the commands are scan, load, weigh");
  expect_error(run_tool({"weigh"}), 2, "MODEL");
  expect_error(run_tool({"weigh", model_, "--format", "xml"}), 2, "--format");
  expect_error(run_tool({"weigh", model_, "--sort", "weight"}), 2,
               "--sort: 'weight' is not one of bytes, rows, distinct, nulls, bits, uses, name");
  expect_error(run_tool({"weigh", model_, "--threads", "x"}), 2, "--threads");
  expect_error(run_tool({"ask", model_, "monthley"}), 2, "did you mean 'monthly'?");
  expect_error(run_tool({"ask", model_, "by days.year show revenu"}), 2, "did you mean 'revenue'?");
  expect_error(run_tool({"ask", model_, "monthly", "--where", "days.year ="}), 2, "<where>:1:12");
  expect_error(run_tool({"ask", model_, "monthly", "--today", "yesterday"}), 2, "--today");
  expect_error(run_tool({"refactor", model_, "inline", "sessions.grss"}), 2, "did you mean 'gross'?");
  expect_error(run_tool({"refactor", model_, "inline"}), 2, "inline TABLE.COLUMN");
  expect_error(run_tool({"refactor", model_, "splt", "sessions.started"}), 2, "did you mean 'split'?");
  expect_error(run_tool({"demo", folder_.path("d"), "--sessions", "3"}), 2, "--sessions");
  EXPECT_EQ(run_tool({"--help"}).status, 0);
  EXPECT_NE(run_tool({"weigh", "--help"}).out.find("--top"), std::string::npos);
  EXPECT_EQ(run_tool({"--version"}).out, "juniper 0.1.0\n");
}

TEST_F(ToolTest, InputThatCannotBeReadIs3) {
  expect_error(run_tool({"load", folder_.path("none.ridge")}), 3, "JR-001");
  expect_error(run_tool({"check", model_}), 3, "JR-903");
  folder_.write("broken.ridge", "table a from csv \"a.csv\" {\n  key a integr\n}\nmeasure b = c");
  expect_error(run_tool({"load", folder_.path("broken.ridge")}), 3, "JR-113");
  rewrite("sessions.bay_id      -> bays.bay_id", "sessions.bay_id      -> bays.station_id");
  expect_error(run_tool({"weigh", model_}), 3, "charging.ridge:");
  folder_.write("bad.jrs", "not a store");
  expect_error(run_tool({"weigh", folder_.path("bad.jrs")}), 3, "JR-603");
}

TEST_F(ToolTest, BadCellsNameFileLineAndColumn) {
  std::string csv = test::read_file(folder_.path("d/data/visits.csv"));
  csv += "7777,1000,2024-02-30,repair,amber,early,abc,1.005\n";
  folder_.write("d/data/visits.csv", csv);
  const auto run = run_tool({"load", model_});
  expect_error(run, 3, "JR-507");
  EXPECT_NE(run.err.find("visits.csv:82"), std::string::npos) << run.err;
  EXPECT_NE(run.err.find("field 3 ('visit_day'): found \"2024-02-30\""), std::string::npos) << run.err;
  EXPECT_NE(run.err.find("field 7 ('minutes'): found \"abc\""), std::string::npos) << run.err;
  EXPECT_NE(run.err.find("field 8 ('cost'): found \"1.005\""), std::string::npos) << run.err;
}

// At 200 random moments: during the start, the reading, the encoding, the writing, and a little behind the end.
TEST_F(ToolTest, AKilledLoadLeavesTheEarlierStoreWhole) {
  constexpr int moments = test::is_sanitized ? 20 : 200;
  const auto begin = std::chrono::steady_clock::now();
  ASSERT_EQ(run_tool({"load", model_, "--again"}).status, 0);
  const auto whole = std::chrono::duration_cast<std::chrono::microseconds>(std::chrono::steady_clock::now() - begin);
  const auto answer = [&] {
    const auto dataset = Dataset::open(folder_.path("d/charging.jrs"));
    return dataset ? test::answer(*dataset, "monthly") : test::messages(dataset.error());
  };
  const std::string expected = answer();
  std::mt19937_64 random(test::test_seed(200));
  for (int i = 0; i < moments; ++i) {
    const auto moment = random() % (static_cast<std::uint64_t>(whole.count()) * 5 / 4);
    test::kill_tool({"load", model_, "--again"}, static_cast<unsigned>(moment));
    ASSERT_EQ(answer(), expected) << "killed after " << moment << " of " << whole.count() << " microseconds";
  }
  // What killed loads left behind goes with the next one.
  folder_.write("d/.charging.jrs.juniper-abcdefghijklmnop", "half a store");
  ASSERT_EQ(run_tool({"load", model_, "--again"}).status, 0);
  for (const auto& entry : std::filesystem::directory_iterator(folder_.path("d"))) {
    EXPECT_EQ(entry.path().filename().string().find(".juniper-"), std::string::npos) << entry.path();
  }
}

// A file that is named by mistake stays as it is, and so does everything else in its folder.
TEST_F(ToolTest, NothingIsWrittenOverSomethingElse) {
  const std::string data = folder_.path("d/data/tariffs.csv");
  const auto all_files = [&] {
    std::map<std::string, std::string> files;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_.path("d")))
      if (entry.is_regular_file()) files.emplace(entry.path(), test::read_file(entry.path()));
    return files;
  };
  ASSERT_EQ(run_tool({"load", model_}).status, 0);
  const auto before = all_files();
  for (const std::string& victim : {model_, data}) {
    for (const std::vector<std::string>& command :
         std::vector<std::vector<std::string>>{{"load", model_, "--store", victim},
                                               {"load", model_, "--again", "--reject", victim},
                                               {"audit", model_, "--fast", "--sarif", victim},
                                               {"scan", data, "--output", victim}}) {
      const auto run = run_tool(command);
      EXPECT_EQ(run.status, 3) << command[2] << " " << run.err;
      EXPECT_NE(run.err.find("JR-"), std::string::npos) << run.err;
    }
  }
  EXPECT_EQ(all_files(), before);
  // Asked for, it is done; but nothing is replaced by what is made of it.
  const std::string letter = folder_.write("letter.txt", "dear");
  for (const std::string& victim : {model_, data}) {
    expect_error(run_tool({"load", model_, "--again", "--store", victim, "--force"}), 3, "JR-011");
    expect_error(run_tool({"load", model_, "--again", "--reject", victim, "--force"}), 3, "JR-011");
  }
  const std::string pipe = folder_.path("pipe");
  ASSERT_EQ(::mkfifo(pipe.c_str(), 0600), 0);
  for (const std::string& place : {pipe, folder_.path("d/data")}) {
    expect_error(run_tool({"load", model_, "--again", "--store", place}), 3, "JR-011");
    expect_error(run_tool({"load", model_, "--again", "--store", place, "--force"}), 3, "JR-011");
  }
  EXPECT_TRUE(std::filesystem::is_fifo(pipe));
  EXPECT_EQ(all_files(), before);
  EXPECT_EQ(run_tool({"audit", model_, "--fast", "--sarif", letter}).status, 3);
  EXPECT_EQ(run_tool({"audit", model_, "--fast", "--sarif", letter, "--force"}).status, 1);
  EXPECT_TRUE(test::read_file(letter).starts_with("{"));
}

// A disk behind `>` that is full, for every command that prints.
TEST_F(ToolTest, AnOutputThatIsNotWrittenIsAnError) {
  for (const auto& command : commands()) {
    std::string line = "juniper";
    for (const std::string& word : command) line += " '" + word + "'";
    const auto run = test::run_shell(line + " > /dev/full", folder_.path("d"));
    EXPECT_EQ(run.status, 3) << line;
    EXPECT_NE(run.err.find("JR-012"), std::string::npos) << line << run.err;
  }
}

// What is too large for --memory ends with a message, and leaves all as it was.
TEST_F(ToolTest, NoCommandTakesMoreMemoryThanItMay) {
  // The sanitizers take memory of their own, and end where it is refused.
  if (test::is_sanitized) GTEST_SKIP();
  std::string rows = "id,text\n";
  for (int i = 0; i < 400000; ++i) rows += fmt::format("{},\"a text of its own {}\"\n", i, i * 7919L);
  folder_.write("m/t.csv", rows);
  const std::string model =
      folder_.write("m/m.ridge", "table t from csv \"t.csv\" { key id integer  text text }\nmeasure n = count(t)\n");
  const std::string few = "1MB";
  const auto refused = [&](std::vector<std::string> arguments) {
    arguments.insert(arguments.end(), {"--memory", few, "--threads", "2"});
    const auto run = run_tool(arguments);
    EXPECT_EQ(run.status, 3) << arguments[0] << run.out.substr(0, 200);
    EXPECT_TRUE(run.err.find("JR-005") != std::string::npos || run.err.find("JR-708") != std::string::npos) << run.err;
  };
  refused({"load", model});
  EXPECT_FALSE(std::filesystem::exists(folder_.path("m/m.jrs")));
  ASSERT_EQ(run_tool({"load", model}).status, 0);
  const std::string store = test::read_file(folder_.path("m/m.jrs"));
  refused({"ask", model, "by t.id, t.text show n"});
  EXPECT_EQ(test::read_file(folder_.path("m/m.jrs")), store);
  EXPECT_EQ(run_tool({"ask", model, "show n", "--memory", "50MB"}).status, 0);
}

TEST_F(ToolTest, ARefusedRefactoringIs1AndSaysWhy) {
  const auto run = run_tool({"refactor", model_, "inline", "bays.n_started"});
  expect_error(run, 1, "its expression holds an aggregate");
  EXPECT_NE(run.err.find("n_started"), std::string::npos) << run.err;
}

TEST_F(ToolTest, TheWholeWayOfAChange) {
  ASSERT_EQ(run_tool({"baseline", model_}).status, 0);
  ASSERT_EQ(run_tool({"refactor", model_, "inline", "sessions.price_paid", "--write"}).status, 0);
  EXPECT_EQ(test::read_file(model_).find("price_paid"), std::string::npos);
  EXPECT_EQ(run_tool({"check", model_}).status, 0);
  rewrite("revenue / energy", "revenue / n_sessions");
  const auto changed = run_tool({"check", model_});
  EXPECT_EQ(changed.status, 1);
  EXPECT_NE(changed.out.find("FAILED: 3 of 14 differ"), std::string::npos) << changed.out;
  EXPECT_NE(changed.out.find("measure price"), std::string::npos) << changed.out;
  EXPECT_NE(changed.out.find("days.year = 2023, days.month_name = \"January\""), std::string::npos) << changed.out;
  rewrite("revenue / n_sessions", "revenue / energy");
  rewrite("query sizes", "query dimensions");
  const auto lost = run_tool({"check", model_});
  EXPECT_EQ(lost.status, 1);
  EXPECT_NE(lost.out.find("LOST"), std::string::npos) << lost.out;
}

TEST_F(ToolTest, ABaselineIsReplacedOnlyWhenItIsTold) {
  ASSERT_EQ(run_tool({"baseline", model_}).status, 0);
  EXPECT_EQ(run_tool({"baseline", model_}).status, 0);
  rewrite("sum(energy_kwh for sessions)", "sum(energy_kwh + 1 for sessions)");
  const auto refused = run_tool({"baseline", model_});
  EXPECT_EQ(refused.status, 1);
  EXPECT_NE(refused.out.find("NOT RECORDED"), std::string::npos) << refused.out;
  EXPECT_EQ(run_tool({"check", model_}).status, 1);
  EXPECT_EQ(run_tool({"baseline", model_, "--replace"}).status, 0);
  EXPECT_EQ(run_tool({"check", model_}).status, 0);
}

TEST_F(ToolTest, WhatALogAsksForStays) {
  const std::string log = folder_.write("asked.jsonl", R"({"query": "by sessions.receipt show n_sessions"})"
                                                       "\n");
  EXPECT_EQ(run_tool({"refactor", model_, "drop", "sessions.receipt", "--probes", "1"}).status, 0);
  expect_error(run_tool({"refactor", model_, "drop", "sessions.receipt", "--log", log}), 1, "asked.jsonl:1");
  const auto subjects = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words{"audit", model_, "--fast", "--only", "JA-102", "--format", "csv"};
    words.insert(words.end(), more.begin(), more.end());
    return run_tool(words).out;
  };
  EXPECT_NE(subjects({}).find("sessions.receipt"), std::string::npos);
  EXPECT_EQ(subjects({"--log", log}).find("sessions.receipt"), std::string::npos);
  // So does what the baseline beside the model has recorded of it.
  ASSERT_EQ(run_tool({"baseline", model_, "--log", log}).status, 0);
  EXPECT_EQ(subjects({}).find("sessions.receipt"), std::string::npos);
  expect_error(run_tool({"audit", model_, "--log", folder_.path("none")}), 3, "JR-501");
}

TEST_F(ToolTest, ChecksForBuildServersAndClients) {
  const std::string log =
      folder_.write("log.jsonl", "{\"query\": \"monthly\"}\n{\"query\": \"by days.year show price\"}\n");
  ASSERT_EQ(run_tool({"baseline", model_, "--log", log, "--queries",
                      folder_.write("more.ridge", "query prices { by tariffs.plan show price }\n")})
                .status,
            0);
  rewrite("query sizes \"Sessions by size\" {", "query sizes \"Sessions by size\" within 0.001 us {");
  const std::string junit = folder_.path("junit.xml");
  const auto slow = run_tool({"check", model_, "--junit", junit});
  EXPECT_EQ(slow.status, 1);
  EXPECT_NE(slow.out.find("FAILED: 1 of 16 over their time"), std::string::npos) << slow.out;
  EXPECT_NE(test::read_file(junit).find("<testcase classname=\"budget\" name=\"sizes\""), std::string::npos);
  rewrite(" within 0.001 us", "");
  rewrite("revenue / energy", "energy / revenue");
  EXPECT_EQ(run_tool({"check", model_, "--accept", "monthly", "regions", "second_look", "prices"}).status, 1)
      << "a logged query shows it, too";
  const auto json = nlohmann::json::parse(run_tool({"check", model_, "--format", "json"}).out);
  EXPECT_EQ(json["passed"], false);
  EXPECT_EQ(json["compared_with"], "recorded");
  EXPECT_EQ(json["queries"].size(), 16U);
  EXPECT_EQ(
      run_tool({"check", model_, "--base", model_, "--speed", "warm", "--seconds", "0.02", "--allowed", "50"}).status,
      0);
  const auto clients = run_tool({"check", model_, "--clients", "2", "--for", "0.2", "--log", log});
  EXPECT_EQ(clients.status, 0) << clients.out;
  EXPECT_NE(clients.out.find("every answer was right"), std::string::npos) << clients.out;
  expect_error(run_tool({"check", model_, "--base-rev", "nowhere"}), 3, "JR-908");
  expect_error(run_tool({"check", model_, "--for", "1"}), 2, "--clients");
  expect_error(run_tool({"baseline", model_, "--expect", "monthly"}), 2, "QUERY=FILE.csv");
}

TEST_F(ToolTest, TheDemoWalksThroughEveryStep) {
  const auto run = run_tool({"demo", "walk", "--sessions", "2000", "--seed", "3"}, folder_.path());
  EXPECT_EQ(run.status, 0) << run.err;
  EXPECT_EQ(run.err, "");
  for (const char* command : {"$ juniper load", "$ juniper weigh", "$ juniper links", "$ juniper ask",
                              "$ juniper baseline", "$ juniper refactor", "$ juniper check"}) {
    EXPECT_NE(run.out.find(command), std::string::npos) << command;
  }
  EXPECT_NE(run.out.find("yes: every row, query and probe came out the same"), std::string::npos);
  EXPECT_NE(run.out.find("passed"), std::string::npos);
  // A second walk in the same folder begins from the start.
  EXPECT_EQ(run_tool({"demo", "walk", "--sessions", "2000", "--seed", "3"}, folder_.path()).status, 0);
  expect_error(run_tool({"demo", "."}, folder_.path("d/data")), 2, "JR-004");
}

}  // namespace
}  // namespace juniper::tool_test
