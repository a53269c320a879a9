// What the description of the command line gives: helps whose examples run, wrong words told in plain ones, man pages,
// and what shells complete.
#include <gtest/gtest.h>

#include <algorithm>
#include <set>
#include <sstream>

#include "command_line.h"
#include "completion.h"
#include "help.h"
#include "juniper.h"
#include "juniper/demo.h"
#include "manual.h"
#include "support/support.h"

namespace juniper::command_line_test {
namespace {

using test::lines_of;
using test::run_shell;
using test::run_tool;
using tool::Command;
using tool::CommandLine;
using tool::Common;
using tool::Option;

class CommandLineTest : public testing::Test {
 protected:
  void SetUp() override { ASSERT_TRUE(write_demo(folder_.path(), {1500, 4})); }

  // What the shells' scripts are given for a line, of which the last word is to be completed.
  std::string completed(const std::vector<std::string>& words) const {
    std::vector<std::string> all{"complete"};
    all.insert(all.end(), words.begin(), words.end());
    return run_tool(all, folder_.path()).out;
  }

  test::TempFolder folder_;
  Common common_;
  CommandLine line_ = tool::command_line(common_);
};

// An option that every command takes means the same for each.
TEST_F(CommandLineTest, NoOptionHasTwoMeanings) {
  for (const Command& command : line_.commands) {
    std::set<std::string> names;
    for (const Option& option : command.options) EXPECT_TRUE(names.insert(option.name).second) << option.name;
    for (const Option& option : line_.common)
      EXPECT_TRUE(names.insert(option.name).second) << command.name << " " << option.name;
  }
}

TEST_F(CommandLineTest, ExamplesOfEveryHelpRun) {
  folder_.write("queries.jsonl", "{\"query\": \"monthly\"}\n");
  folder_.write("measures.ridge", "measure more = 1\n");
  ASSERT_EQ(
      run_shell("juniper weigh charging.ridge --format json > before.json\n"
                "juniper ask charging.ridge regions --format csv | grep '^detail' | cut -d, -f2- > rows\n"
                "juniper ask charging.ridge regions --format csv | head -n 1 | cut -d, -f2- | cat - rows > theirs.csv\n"
                "git init -q . && git add charging.ridge && git -c user.name=n -c user.email=e commit -qm one\n"
                "git -c user.name=n -c user.email=e commit -qm two --allow-empty\n",
                folder_.path())
          .status,
      0);
  for (const Command& command : line_.commands) {
    EXPECT_GE(command.examples.size(), 2U) << command.name;
    EXPECT_LE(command.examples.size(), 3U) << command.name;
    for (const tool::Example& example : command.examples) {
      EXPECT_NE(help(line_, command, 0).find("\n  juniper " + example.words + "\n      " + example.what + "\n"),
                std::string::npos);
      std::string words = example.words;
      // As quickly as it can be seen that it runs.
      if (command.name == "scan" && words.ends_with("charging.ridge")) words += ".proposed";
      if (command.name == "demo") words = "demo d --sessions 1000";
      if (words.ends_with("--for 60")) words.replace(words.size() - 2, 2, "0.1");
      if (command.name == "refactor") words += " --probes 5";
      const auto run = run_shell("juniper " + words, folder_.path());
      EXPECT_TRUE(run.status == 0 || run.status == 1) << words << "\n" << run.err << run.out;
    }
  }
}

TEST_F(CommandLineTest, HelpIsGivenInThreeWays) {
  for (const Command& command : line_.commands) {
    const auto asked = run_tool({"help", command.name});
    EXPECT_EQ(asked.status, 0);
    EXPECT_EQ(asked.out, help(line_, command, 0));
    EXPECT_EQ(run_tool({command.name, "--help"}).out, asked.out);
    EXPECT_EQ(run_tool({"--help", command.name}).out, asked.out);
    for (const Option& option : command.options)
      EXPECT_NE(asked.out.find(tool::usage(option)), std::string::npos) << option.name;
    for (const std::string& text : lines_of(asked.out)) EXPECT_LE(text.size(), 140U) << text;
  }
  EXPECT_EQ(run_tool({"help"}).out, run_tool({"--help"}).out);
  EXPECT_EQ(run_tool({"help", "hlep"}).err, "error: there is no command 'hlep'\n");
}

TEST_F(CommandLineTest, WrongWordsAreToldInPlainOnes) {
  const std::vector<std::pair<std::vector<std::string>, std::string>> cases{
      {{"check", "m", "--speed", "hot"}, "--speed: 'hot' is not one of cold, warm"},
      {{"weigh", "m", "--format", "xml"}, "--format: 'xml' is not one of terminal, json, csv, markdown"},
      {{"weigh", "m", "--color", "red"}, "--color: 'red' is not one of auto, always, never"},
      {{"sql", "m", "q", "--dialect", "other"}, "--dialect: 'other' is not one of sqlite, postgresql"},
      {{"ask", "m", "q", "--plan", "fast"}, "--plan: 'fast' is not one of engine, naive"},
      {{"load", "m", "--order", "up"}, "--order: 'up' is not one of auto, files"},
      {{"ask", "m", "q", "--against", "x"}, "--against: 'x' is not one of sqlite"},
      {{"ask", "m", "q", "--threads", "-1"}, "--threads: '-1' is not a whole number from 0 to 1024"},
      {{"ask", "m", "q", "--threads", "two"}, "--threads: 'two' is not a whole number from 0 to 1024"},
      {{"check", "m", "--allowed", "1"}, "--allowed: '1' is not a number from 1.01 to 100"},
      {{"check", "m", "--seconds", "nan"}, "--seconds: 'nan' is not a number from 0.001 to 86400"},
      {{"ask", "m", "q", "--today", "2025-02-30"}, "--today: '2025-02-30' is not a date like 2025-03-01"},
      {{"ask", "m", "q", "--set", "=1"}, "--set: '=1' is not of the form NAME=VALUE"},
      {{"ask", "m", "q", "--memory", "99999999999TB"}, "--memory: '99999999999TB' is not an amount of memory"},
      {{"audit", "m", "--min-saving", "101%"}, "--min-saving: '101%' is neither bytes like 5kB nor a part"},
      {{"ask", "m", "q", "--store", "a", "--store", "b"}, "--store: it is given 2 times, and takes one value"},
      {{"ask", "m", "q", "--plan"}, "--plan takes one of engine, naive"},
      {{"ask", "m", "q", "--where"}, "--where takes a value, CONDITION"},
      {{"ask", "m", "q", "--wher", "x"},
       "ask has no option --wher; it has --where, --draft, --plan, --from-sources, --against"},
      {{"ask", "m", "q", "--from-sources", "--against", "sqlite"}, "--from-sources and --against compare with"},
      {{"ask", "m", "q", "r"}, "'r' is one word more than ask takes"},
      {{"ask", "m"}, "ask needs QUERY"},
      {{"check", "m", "--for", "1"}, "--for goes with --clients"},
      {{}, "name a command: scan, load"},
      {{"--format", "json"}, "name a command: scan, load"},
      {{"--format", "json", "aks"}, "there is no command 'aks'; the commands are scan, load"},
  };
  for (const auto& [words, problem] : cases) {
    const auto run = run_tool(words);
    EXPECT_EQ(run.status, 2) << problem;
    EXPECT_EQ(run.out, "");
    EXPECT_TRUE(run.err.starts_with("error: " + problem)) << run.err << problem;
  }
}

// Every word that an option is said to take is taken, and what is completed for it are these words.
TEST_F(CommandLineTest, WordsOfOptionsAreTakenAndCompleted) {
  const auto expect_taken = [&](const Command& command, const Option& option) {
    const std::string completions = completed({command.name, "charging.ridge", option.name, ""});
    for (const std::string& word : option.words) {
      EXPECT_FALSE(option.take({word})) << option.name << " " << word;
      EXPECT_NE(completions.find(word), std::string::npos) << option.name << " " << word;
    }
  };
  for (const Command& command : line_.commands) {
    const std::string names = completed({command.name, "--"});
    std::vector<Option> options = command.options;
    options.insert(options.end(), line_.common.begin(), line_.common.end());
    for (const Option& option : options) {
      if (!option.words.empty()) expect_taken(command, option);
      EXPECT_TRUE(option.is_argument() || names.find(option.name) != std::string::npos) << option.name;
    }
  }
}

TEST_F(CommandLineTest, NamesOfTheModelAreCompleted) {
  EXPECT_EQ(completed({"ask", "charging.ridge", "mon"}), "monthly\tRevenue by month\n");
  EXPECT_EQ(completed({"unfold", "charging.ridge", "pri"}), "price\tPaid for a kWh\n");
  EXPECT_EQ(completed({"describe", "charging.ridge", "tariffs.pl"}), "tariffs.plan\ttext\n");
  EXPECT_EQ(completed({"refactor", "charging.ridge", "inline", "sessions.gr"}), "sessions.gross\tdecimal(2)\n");
  EXPECT_EQ(completed({"check", "charging.ridge", "--accept", "monthly", "reg"}), "regions\tRegions side by side\n");
  EXPECT_EQ(completed({"audit", "charging.ridge", "--only", "JA-104"}).substr(0, 7), "JA-104\t");
  EXPECT_EQ(completed({"--format", "json", "wei"}), "weigh\tWhere the bytes are, and who uses them\n");
  EXPECT_EQ(completed({"weigh", "--format=ma"}), "--format=markdown\n");
  EXPECT_EQ(completed({"help", "ref"}).substr(0, 9), "refactor\t");
  EXPECT_EQ(completed({"load", "cha"}), ":files\n");
  EXPECT_EQ(completed({"check", "m", "--dir", ""}), ":folders\n");
  EXPECT_EQ(completed({"ask", "charging.ridge", "monthly", ""}), "");
  // What can't be read has no names; nothing is said about it.
  EXPECT_EQ(completed({"ask", "none.ridge", "mon"}), "");
  EXPECT_EQ(completed({"no", "such", ""}), "");
}

TEST_F(CommandLineTest, ShellsComplete) {
  const std::string scripts = std::string(JUNIPER_SOURCE_DIR) + "/tool/shells/";
  const auto bash = run_shell(
      "source " + scripts +
          "juniper.bash\n"
          "compopt() { :; }\n"
          "try() { COMP_WORDS=(\"$@\"); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _juniper; echo \"${COMPREPLY[@]}\"; }\n"
          "try juniper wei\n"
          "try juniper weigh --format = j\n"
          "try juniper ask charging.ridge mon\n"
          "try juniper load charging.r\n",
      folder_.path());
  EXPECT_EQ(bash.out, "weigh\njson\nmonthly\ncharging.ridge\n") << bash.err;
  const auto fish = run_shell("source " + scripts +
                                  "juniper.fish\n"
                                  "complete -C 'juniper wei'\n"
                                  "complete -C 'juniper weigh --format=j'\n"
                                  "complete -C 'juniper ask charging.ridge mon'\n"
                                  "complete -C 'juniper load charging.r'\n",
                              folder_.path(), "fish");
  EXPECT_EQ(fish.out,
            "weigh\tWhere the bytes are, and who uses them\n--format=json\nmonthly\tRevenue by month\ncharging.ridge\n")
      << fish.err;
}

// zsh completes for somebody who types, and so sits at the other end of a terminal.
TEST_F(CommandLineTest, ZshCompletes) {
  const auto zsh = run_shell(
      "zmodload zsh/zpty\n"
      "zpty z \"TERM=dumb PS1= zsh -f -i\"\n"
      "typed() { zpty -w z \"$1\"; zpty -r -m z answer \"*$2*\" && print found $2; }\n"
      "zpty -w z 'fpath=(" +
          std::string(JUNIPER_SOURCE_DIR) +
          "/tool/shells $fpath); autoload -Uz compinit; compinit -u -D; print rea''dy'\n"
          "zpty -r -m z answer '*ready*'\n"
          "typed $'juniper ask charging.ridge mon\\t' monthly\n"
          "typed $'juniper wei\\t' weigh\n"
          "zpty -d z\n",
      folder_.path(), "zsh");
  EXPECT_EQ(zsh.out, "found monthly\nfound weigh\n") << zsh.err;
}

TEST_F(CommandLineTest, ManPagesAreWellFormed) {
  folder_.write("juniper.1", man_page(line_));
  for (const Command& command : line_.commands)
    folder_.write("juniper-" + command.name + ".1", man_page(line_, command));
  EXPECT_EQ(run_shell("mandoc -T lint -W warning *.1", folder_.path()).out, "");
  // Read as a page, each says what the help says.
  for (const Command& command : line_.commands) {
    const std::string page =
        run_shell("mandoc -T ascii -O width=500 juniper-" + command.name + ".1 | sed 's/.\\x08//g'", folder_.path())
            .out;
    for (const Option& option : command.options)
      EXPECT_NE(page.find(option.name), std::string::npos) << command.name << " " << option.name;
    for (const tool::Example& example : command.examples)
      EXPECT_NE(page.find("juniper " + example.words.substr(0, example.words.find('\''))), std::string::npos) << page;
  }
}

}  // namespace
}  // namespace juniper::command_line_test
