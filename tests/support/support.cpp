#include "support/support.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <sstream>
#include <system_error>
#include <thread>

namespace juniper::test {

TempFolder::TempFolder() {
  // Not by the process's number, which comes again: a process that was killed has left its folder.
  std::string name = (std::filesystem::temp_directory_path() / "juniper-test-XXXXXX").string();
  if (::mkdtemp(name.data()) == nullptr) throw std::runtime_error("no folder for a test can be made: " + name);
  path_ = name;
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}

std::string TempFolder::write(const std::string& name, const std::string& text) const {
  const std::filesystem::path target = path_ / name;
  std::filesystem::create_directories(target.parent_path());
  std::ofstream(target, std::ios::binary) << text;
  return target.string();
}

std::string read_file(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
}

SmallModel::SmallModel(const std::string& text, const std::map<std::string, std::string>& files) {
  folder.write("model.ridge", text);
  for (const auto& [name, content] : files) folder.write(name, content);
}

Dataset SmallModel::open(Options options) const {
  auto dataset = Dataset::open(path(), options);
  if (!dataset) {
    ADD_FAILURE() << render(dataset.error());
    std::abort();
  }
  return *dataset;
}

Diagnostics SmallModel::errors() const {
  const auto dataset = Dataset::open(path());
  return dataset ? Diagnostics{} : dataset.error();
}

std::string messages(const Diagnostics& diagnostics) {
  return render(diagnostics);
}

std::string codes(const Diagnostics& diagnostics) {
  std::string text;
  for (const Diagnostic& d : diagnostics) text += (text.empty() ? "" : " ") + d.code;
  return text;
}

std::string rows_of(const QueryResult& result) {
  std::string text;
  for (const ResultRow& row : result.rows) {
    if (!text.empty()) text += '\n';
    if (row.level != 0) text += result.levels[row.level] + ":";
    for (std::size_t i = 0; i < row.cells.size(); ++i) {
      const bool kept = !result.columns[i].is_key || result.kept[row.level][i];
      if (i != 0) text += '|';
      if (kept) text += row.cells[i].is_null() ? "null" : to_text(row.cells[i], result.columns[i].type);
    }
  }
  return text;
}

std::string answer(const Dataset& dataset, const std::string& query, const std::vector<std::string>& where) {
  const auto result = ask(dataset, {query, where});
  return result ? rows_of(*result) : messages(result.error());
}

namespace {

// Starts a program with its output in two files. (Not by fork: its child may take no memory, as another thread may have
// held what guards it.)
pid_t start(std::vector<std::string> words, const std::string& folder, const std::string& out, const std::string& err) {
  std::vector<char*> pointers;
  for (std::string& word : words) pointers.push_back(word.data());
  pointers.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  if (!folder.empty()) posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
  constexpr int flags = O_WRONLY | O_CREAT | O_TRUNC;
  posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, out.c_str(), flags, 0666);
  posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, err.c_str(), flags, 0666);
  pid_t child = -1;
  const int failed = ::posix_spawnp(&child, pointers[0], &actions, nullptr, pointers.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) throw std::system_error(failed, std::generic_category(), words[0]);
  return child;
}

}  // namespace

namespace {

std::vector<std::string> with_tool(const std::vector<std::string>& arguments) {
  std::vector<std::string> words{JUNIPER_TOOL};
  words.insert(words.end(), arguments.begin(), arguments.end());
  return words;
}

ProcessResult run(const std::vector<std::string>& words, const std::string& folder) {
  const TempFolder output;
  const pid_t child = start(words, folder, output.path("out"), output.path("err"));
  int status = 0;
  ::waitpid(child, &status, 0);
  return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, read_file(output.path("out")), read_file(output.path("err"))};
}

}  // namespace

std::vector<std::string> lines_of(const std::string& text) {
  std::istringstream stream(text);
  std::vector<std::string> lines;
  for (std::string line; std::getline(stream, line);) lines.push_back(line);
  return lines;
}

ProcessResult run_tool(const std::vector<std::string>& arguments, const std::string& folder) {
  return run(with_tool(arguments), folder);
}

ProcessResult run_shell(const std::string& lines, const std::string& folder, const std::string& shell) {
  const TempFolder script;
  std::filesystem::create_symlink(JUNIPER_TOOL, script.path("juniper"));
  const char* const path = std::getenv("PATH");
  return run(
      {"env", "PATH=" + script.path() + ":" + (path == nullptr ? "" : path), shell, script.write("lines", lines)},
      folder);
}

int kill_tool(const std::vector<std::string>& arguments, unsigned microseconds, int signal, const std::string& folder) {
  const pid_t child = start(with_tool(arguments), folder, "/dev/null", "/dev/null");
  int status = 0;
  using std::chrono::steady_clock;
  const auto moment = steady_clock::now() + std::chrono::microseconds(microseconds);
  while (steady_clock::now() < moment) {
    // A tool that is done earlier than expected, as on a machine that was busy a moment ago, is not waited for.
    if (::waitpid(child, &status, WNOHANG) == child) return status;
    std::this_thread::sleep_until(std::min(moment, steady_clock::now() + std::chrono::milliseconds(1)));
  }
  ::kill(child, signal);
  ::waitpid(child, &status, 0);
  return status;
}

std::size_t test_count(std::size_t count) {
  const char* const wanted = std::getenv("JUNIPER_QUERIES");
  if (wanted != nullptr) return std::strtoull(wanted, nullptr, 10);
  return is_sanitized ? (count + 4) / 5 : count;
}

std::uint64_t test_seed(std::uint64_t seed) {
  const char* const given = std::getenv("JUNIPER_SEED");
  return given == nullptr ? seed : std::strtoull(given, nullptr, 10);
}

}  // namespace juniper::test
