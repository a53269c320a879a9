#include "base/git.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <filesystem>

namespace juniper::base {

namespace {

namespace fs = std::filesystem;

// What git prints for these words in the folder of a file; nothing where it fails.
std::optional<std::string> printed(const fs::path& file, std::vector<std::string> words) {
  std::string folder = file.parent_path().empty() ? "." : file.parent_path().string();
  std::vector<std::string> all{"git", "-C", std::move(folder)};
  std::move(words.begin(), words.end(), std::back_inserter(all));
  std::vector<char*> arguments;
  for (std::string& word : all) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) return std::nullopt;
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_adddup2(&actions, ends[1], STDOUT_FILENO);
  posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
  pid_t child = -1;
  const int failed = ::posix_spawnp(&child, "git", &actions, nullptr, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  ::close(ends[1]);
  std::string text;
  std::array<char, std::size_t{1} << 16> part{};
  for (ssize_t count = 0; (count = ::read(ends[0], part.data(), part.size())) > 0;)
    text.append(part.data(), static_cast<std::size_t>(count));
  ::close(ends[0]);
  int status = 0;
  if (failed != 0 || ::waitpid(child, &status, 0) != child || status != 0) return std::nullopt;
  return text;
}

}  // namespace

std::optional<std::string> text_at(const std::string& path, const std::string& revision) {
  if (revision.empty() || revision.front() == '-') return std::nullopt;
  const fs::path file(path);
  return printed(file, {"show", "--end-of-options", fmt::format("{}:./{}", revision, file.filename().string())});
}

std::optional<std::vector<RevisionText>> texts_of(const std::string& path, std::size_t most) {
  const fs::path file(path);
  const auto log =
      printed(file, {"log", fmt::format("-n{}", most), "--format=%h %cs", "--", "./" + file.filename().string()});
  if (!log) return std::nullopt;
  std::vector<RevisionText> texts;
  for (std::size_t begin = 0; begin < log->size();) {
    const std::size_t end = std::min(log->find('\n', begin), log->size());
    const std::string line = log->substr(begin, end - begin);
    const std::size_t blank = std::min(line.find(' '), line.size());
    if (auto text = text_at(path, line.substr(0, blank)))
      texts.push_back({line.substr(0, blank), line.substr(std::min(blank + 1, line.size())), std::move(*text)});
    begin = end + 1;
  }
  std::reverse(texts.begin(), texts.end());
  return texts;
}

}  // namespace juniper::base
