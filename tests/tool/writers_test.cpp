// Every command that writes, killed at any moment, and each two of them at once: what was there is whole or replaced as a
// whole, nothing of somebody else is touched, and nothing stays behind.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/wait.h>

#include <chrono>
#include <functional>
#include <random>
#include <regex>
#include <sstream>
#include <thread>

#include "support/support.h"

namespace juniper::writers_test {
namespace {

namespace fs = std::filesystem;
using Texts = std::map<std::string, std::string>;

constexpr const char* main_text =
    "include \"more.ridge\"\n"
    "table sessions from csv \"sessions.csv\" {\n"
    "  key id integer\n  bay integer\n  price decimal(2)\n  kwh decimal(1)\n"
    "  cost = price * kwh\n  twice = cost + cost\n}\n"
    "measure total_cost = sum(cost for sessions)\n";
constexpr const char* more_text =
    "measure   doubled = sum(twice for sessions)\nmeasure most = max(cost for sessions)\n"
    "query by_bay { by sessions.bay show total_cost, doubled, most }\nquery all { show total_cost }\n";

struct Writer {
  const char* name;
  std::vector<std::string> arguments;
  std::vector<std::string> files;  // that it may change or make
};

// What each is asked to do, in a folder that holds a model, its data, a store and a baseline of an earlier model.
const std::vector<Writer> writers{
    {"refactor",
     {"refactor", "m.ridge", "inline sessions.cost inline sessions.twice", "--write"},
     {"m.ridge", "more.ridge"}},
    {"draft", {"draft", "m.ridge", "measure total_cost = sum(cost for sessions) + 0", "--keep"}, {"m.ridge"}},
    {"format", {"format", "more.ridge"}, {"more.ridge"}},
    {"baseline", {"baseline", "m.ridge", "--replace"}, {"m.baseline"}},
    {"accept", {"check", "m.ridge", "--accept", "all"}, {"m.baseline"}},
    {"scan", {"scan", "sessions.csv", "--output", "new.ridge"}, {"new.ridge"}},
    {"sarif", {"audit", "m.ridge", "--fast", "--sarif", "a.sarif"}, {"a.sarif"}},
    {"junit", {"check", "m.ridge", "--junit", "c.xml"}, {"c.xml"}},
    {"page", {"report", "m.ridge", "--output", "page.html"}, {"page.html"}},
    {"load", {"load", "m.ridge", "--again", "--reject", "r.csv"}, {"r.csv"}},
    {"export", {"export", "m.ridge", "out", "--into", "csv"}, {"out/sessions.csv", "out/datapackage.json"}},
    {"database", {"export", "m.ridge", "db", "--into", "sqlite"}, {"db/m.sqlite", "db/datapackage.json"}},
    {"answer", {"ask", "m.ridge", "by_bay", "--output", "answer.parquet"}, {"answer.parquet"}},
};

class Writers : public testing::Test {
 protected:
  void SetUp() override {
    std::string rows = "id,bay,price,kwh\n";
    for (int i = 0; i < 2000; ++i) rows += fmt::format("{},{},{}.25,{}.5\n", i, i % 7, i % 13, i % 11);
    folder_.write("sessions.csv", rows);
    folder_.write("more.ridge", more_text);
    // The baseline is of a model with other numbers, so that accepting it changes it.
    folder_.write("m.ridge", std::regex_replace(std::string(main_text), std::regex("sum\\(cost"), "min(cost"));
    ASSERT_EQ(run({"baseline", "m.ridge"}).status, 0);
    folder_.write("m.ridge", main_text);
    folder_.write("m.baseline/README.md", "mine");
    folder_.write("a.sarif", "");
    ASSERT_EQ(run({"load", "m.ridge"}).status, 0);
    begin_ = all_texts();
  }

  test::ProcessResult run(const std::vector<std::string>& arguments) {
    return test::run_tool(arguments, folder_.path());
  }

  // Every file but the store, of which readers are asked, and what is different in each run: times, and the seal over them.
  Texts all_texts() const {
    Texts texts;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path())) {
      const fs::path name = entry.path().lexically_relative(folder_.path());
      if (!entry.is_regular_file() || name.extension() == ".jrs") continue;
      if (name.filename() == "times.txt" || name.filename() == "seal.txt") continue;
      std::string text = test::read_file(entry.path());
      // It tells times, and is whole if it ends as it should.
      if (name == "page.html" && text.starts_with("<!doctype html>") && text.ends_with("</html>\n")) text = "a page";
      if (name == "c.xml") text = std::regex_replace(text, std::regex("time=\"[^\"]*\""), "");
      texts.emplace(name, std::move(text));
    }
    return texts;
  }
  static std::vector<std::string> leftovers(const Texts& texts) {
    std::vector<std::string> names;
    for (const auto& [name, text] : texts)
      if (name.find(".juniper-") != std::string::npos) names.push_back(name);
    return names;
  }
  static Texts without_leftovers(Texts texts) {
    for (const std::string& name : leftovers(texts)) texts.erase(name);
    return texts;
  }
  static bool is_of(const std::string& name, const std::string& file) {
    return name == file || name.starts_with(file + "/");
  }
  // Of a file, or of all files of a folder.
  static Texts part(const Texts& texts, const std::string& file) {
    Texts of;
    for (const auto& [name, text] : texts)
      if (is_of(name, file)) of.emplace(name, text);
    return of;
  }
  void restore() {
    for (const Writer& writer : writers) {
      for (const std::string& file : writer.files) {
        if (!begin_.contains(file) && part(begin_, file).empty()) fs::remove_all(folder_.path(file));
      }
    }
    std::vector<fs::path> unfinished;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path())) {
      if (entry.path().filename().string().find(".juniper-") != std::string::npos) unfinished.push_back(entry.path());
    }
    for (const fs::path& path : unfinished) fs::remove_all(path);
    fs::remove_all(folder_.path("m.baseline"));
    fs::copy(folder_.path("kept"), folder_.path("m.baseline"), fs::copy_options::recursive);
    for (const auto& [name, text] : begin_) {
      if (!is_of(name, "m.baseline") && !is_of(name, "kept")) folder_.write(name, text);
    }
  }
  void keep() {
    fs::copy(folder_.path("m.baseline"), folder_.path("kept"), fs::copy_options::recursive);
    begin_ = all_texts();
  }

  test::TempFolder folder_;
  Texts begin_;
};

TEST_F(Writers, KilledAtAnyMomentLeaveAllWhole) {
  keep();
  std::mt19937_64 random(test::test_seed(4));
  const std::size_t moments = test::test_count(8);
  for (const Writer& writer : writers) {
    SCOPED_TRACE(writer.name);
    restore();
    const auto began = std::chrono::steady_clock::now();
    const auto whole = run(writer.arguments);
    ASSERT_LE(whole.status, 1) << whole.err;
    const auto took = std::chrono::duration_cast<std::chrono::microseconds>(std::chrono::steady_clock::now() - began);
    const Texts end = all_texts();
    ASSERT_NE(end, begin_);
    for (std::size_t i = 0; i < moments; ++i) {
      for (const int signal : {SIGKILL, SIGTERM, SIGINT}) {
        restore();
        const auto moment = static_cast<unsigned>(random() % static_cast<std::uint64_t>(took.count()));
        const int status = test::kill_tool(writer.arguments, moment, signal, folder_.path());
        const Texts now = all_texts();
        SCOPED_TRACE(fmt::format("signal {} after {} of {} microseconds", signal, moment, took.count()));
        if (signal != SIGKILL) {
          EXPECT_EQ(leftovers(now), std::vector<std::string>());
          EXPECT_TRUE(WIFEXITED(status) || WTERMSIG(status) == signal) << status;
        }
        // All that it did not have to write is as it was; each file that it had to is the old or the new one.
        const Texts seen = without_leftovers(now);
        Texts rest = seen;
        Texts rest_begin = begin_;
        for (const std::string& file : writer.files) {
          const Texts is = part(seen, file);
          EXPECT_TRUE(is == part(begin_, file) || is == part(end, file)) << file;
          std::erase_if(rest, [&](const auto& text) { return is_of(text.first, file); });
          std::erase_if(rest_begin, [&](const auto& text) { return is_of(text.first, file); });
        }
        EXPECT_EQ(rest, rest_begin);
        // The next one ends well and cleans up, unless there is nothing left to write.
        const bool is_done = part(seen, writer.files[0]) == part(end, writer.files[0]);
        const auto again = run(writer.arguments);
        EXPECT_TRUE(again.status <= 1 || is_done) << again.err;
        EXPECT_TRUE(again.status > 1 || is_done || leftovers(all_texts()).empty());
        ASSERT_FALSE(HasFailure());
      }
    }
  }
}

// One of the two goes first, or one is refused and says so: what is there then is what one of these orders gives.
TEST_F(Writers, EachTwoAtOnceAreAsIfOneHadWaited) {
  keep();
  const auto after = [&](const std::vector<const Writer*>& order) {
    restore();
    for (const Writer* writer : order) run(writer->arguments);
    return all_texts();
  };
  const std::size_t times = std::max<std::size_t>(test::test_count(2), 1);
  for (const Writer& one : writers) {
    for (const Writer& other : writers) {
      if (&other < &one) continue;
      SCOPED_TRACE(fmt::format("{} and {}", one.name, other.name));
      const std::vector<Texts> may_be{after({&one}), after({&other}), after({&one, &other}), after({&other, &one})};
      for (std::size_t i = 0; i < times; ++i) {
        restore();
        test::ProcessResult first;
        std::thread beside([&] { first = run(one.arguments); });
        const test::ProcessResult second = run(other.arguments);
        beside.join();
        const Texts now = all_texts();
        const bool both = first.status <= 1 && second.status <= 1;
        EXPECT_TRUE(first.status <= 1 || !first.err.empty());
        EXPECT_TRUE(second.status <= 1 || !second.err.empty());
        EXPECT_TRUE(std::find(may_be.begin(), may_be.end(), now) != may_be.end())
            << (both ? "both ended well" : "one did not") << "\n"
            << first.out << first.err << "\n--\n"
            << second.out << second.err;
        ASSERT_FALSE(HasFailure());
      }
    }
  }
}

// What a command opens, makes, renames or removes, as the system tells it: nothing changes but what it is asked to write,
// and nothing is read but the model's files and those of the system.
class TouchedFiles : public Writers {
 protected:
  struct Touched {
    std::string call;  // as it was made
    std::string path;  // relative to the folder, for one within it
    bool changes = false;
  };

  std::vector<Touched> touched_by(const std::vector<std::string>& arguments) {
    std::string line = "strace -f -qq -s 4096 -e trace=%file -e signal=none -o trace.log juniper";
    for (const std::string& argument : arguments) line += fmt::format(" '{}'", argument);
    const auto result = test::run_shell("export ASAN_OPTIONS=detect_leaks=0\n" + line + "\n", folder_.path());
    EXPECT_LE(result.status, 1) << result.err;
    static const std::regex call("^(?:[0-9]+ +)?([a-z0-9_]+)\\((.*)$");
    static const std::regex quoted("\"([^\"]*)\"");
    static const std::regex changing(
        "^(rename|unlink|mkdir|rmdir|link|symlink|chmod|chown|fchmodat|fchownat|lchown|"
        "utim|truncate|mknod|creat|setxattr|removexattr|mount|umount).*");
    std::vector<Touched> all;
    std::istringstream log(test::read_file(folder_.path("trace.log")));
    for (std::string text; std::getline(log, text);) {
      std::smatch parts;
      if (!std::regex_match(text, parts, call)) continue;
      const std::string name = parts[1];
      // The program's own start, with its arguments.
      if (name == "execve") continue;
      const std::string rest = parts[2];
      const bool opens_to_write = std::regex_search(rest, std::regex("O_(WRONLY|RDWR|CREAT|TRUNC|APPEND)"));
      const auto first_quoted = static_cast<std::ptrdiff_t>(rest.find('"'));
      for (std::sregex_iterator path(rest.begin(), rest.end(), quoted), end; path != end; ++path) {
        // What a link says stands behind its name: it is read, and not touched.
        if (name.starts_with("readlink") && path->position() != first_quoted) break;
        if ((*path)[1].length() == 0) continue;
        const fs::path absolute = (fs::path(folder_.path()) / (*path)[1].str()).lexically_normal();
        const fs::path within = absolute.lexically_relative(folder_.path());
        const bool outside = *within.begin() == "..";
        all.push_back(
            {text, (outside ? absolute : within).string(), opens_to_write || std::regex_match(name, changing)});
      }
    }
    fs::remove(folder_.path("trace.log"));
    return all;
  }
  // The file itself, something in it where it is a folder, the folder that it stands in, or what is written beside it to
  // take its place.
  static bool belongs_to(const std::string& path, const std::string& file) {
    const fs::path folder = fs::path(file).parent_path();
    const std::string beside = (folder / ("." + fs::path(file).filename().string() + ".juniper-")).string();
    return is_of(path, file) || path == folder.string() || path.starts_with(beside);
  }
  // The folder itself, or one that it stands in.
  bool is_around(const std::string& path) const { return path == "." || is_of(folder_.path(), path); }
  static bool is_of_the_system(const std::string& path) {
    for (const char* const start :
         {"/lib/", "/lib64/", "/usr/lib/", "/etc/ld.so.", "/sys/devices/system/cpu", "/sys/fs/cgroup/", "/proc/",
          "/usr/share/zoneinfo/", "/etc/localtime", "/dev/urandom"})
      if (path.starts_with(start)) return true;
    // Shared libraries of this build.
    return path.find(".so") != std::string::npos;
  }
};

TEST_F(TouchedFiles, AreThoseOfTheCommand) {
  keep();
  if (test::run_shell("strace -qq -o trace.log true\n", folder_.path()).status != 0)
    GTEST_SKIP() << "processes can't be traced here";
  folder_.write("mine.txt", "mine");
  std::vector<Writer> commands = writers;
  const auto reads = [&](std::vector<std::string> arguments) {
    commands.push_back({"reader", std::move(arguments), {}});
  };
  for (const char* const command : {"weigh", "links", "describe", "check"}) reads({command, "m.ridge"});
  for (const char* const command : {"ask", "explain", "sql"}) reads({command, "m.ridge", "by_bay"});
  reads({"ask", "m.ridge", "by_bay", "--against", "sqlite"});
  reads({"ask", "m.ridge", "by_bay", "--from-sources"});
  reads({"unfold", "m.ridge", "total_cost"});
  reads({"draft", "m.ridge", "measure total_cost = sum(cost for sessions) + 0"});
  reads({"refactor", "m.ridge", "inline sessions.cost"});
  reads({"load", "m.ridge", "--verify"});
  reads({"scan", "sessions.csv"});
  reads({"format", "m.ridge", "--check"});
  commands.push_back({"demo", {"demo", "charging", "--sessions", "1000"}, {"charging"}});
  for (const Writer& command : commands) {
    restore();
    std::size_t seen = 0;
    for (const Touched& touched : touched_by(command.arguments)) {
      SCOPED_TRACE(fmt::format("{}\n{}: {}", fmt::join(command.arguments, " "), touched.path, touched.call));
      ++seen;
      const auto is_mine = [&](const std::string& file) { return belongs_to(touched.path, file); };
      const bool is_written = is_mine("m.jrs") || std::any_of(command.files.begin(), command.files.end(), is_mine);
      if (touched.changes) {
        EXPECT_TRUE(is_written);
      } else {
        EXPECT_TRUE(is_written || is_of_the_system(touched.path) || is_around(touched.path) || is_mine("m.ridge") ||
                    is_mine("more.ridge") || is_mine("sessions.csv") || is_mine("m.baseline"));
      }
      EXPECT_FALSE(is_mine("mine.txt"));
    }
    EXPECT_GT(seen, 5U) << command.name;
  }
  EXPECT_EQ(test::read_file(folder_.path("mine.txt")), "mine");
}

}  // namespace
}  // namespace juniper::writers_test
