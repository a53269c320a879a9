#include "peer.h"

#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <iostream>
#include <nlohmann/json.hpp>

namespace bench {

namespace {

[[noreturn]] void give_up(const std::string& why) {
  std::cerr << why << "\n";
  std::exit(3);
}

}  // namespace

Peer::Peer(const std::string& folder, unsigned threads) {
  int to[2];
  int from[2];
  if (pipe(to) != 0 || pipe(from) != 0) give_up("no pipes for the peer");
  process_ = fork();
  if (process_ == 0) {
    dup2(to[0], STDIN_FILENO);
    dup2(from[1], STDOUT_FILENO);
    for (const int end : {to[0], to[1], from[0], from[1]}) close(end);
    const std::string script = folder + "/peer.mjs";
    execlp("node", "node", script.c_str(), std::to_string(threads).c_str(), nullptr);
    _exit(127);
  }
  close(to[0]);
  close(from[1]);
  to_ = fdopen(to[1], "w");
  from_ = fdopen(from[0], "r");
  if (process_ < 0 || to_ == nullptr || from_ == nullptr) give_up("the peer does not start");
}

Peer::~Peer() {
  std::fclose(to_);
  std::fclose(from_);
  waitpid(process_, nullptr, 0);
}

Peer::Answer Peer::ask(const std::string& sql, bool rows) {
  const std::string line = nlohmann::json{{"sql", sql}, {"rows", rows}}.dump() + "\n";
  std::fputs(line.c_str(), to_);
  std::fflush(to_);
  std::string answer;
  for (int c = std::fgetc(from_); c != EOF && c != '\n'; c = std::fgetc(from_)) answer += static_cast<char>(c);
  if (answer.empty()) give_up("the peer has ended: are its packages installed?");
  const auto parsed = nlohmann::json::parse(answer);
  if (parsed.contains("error")) give_up("the peer refuses: " + parsed["error"].get<std::string>() + "\n" + sql);
  Answer result;
  result.nanoseconds = parsed["nanoseconds"];
  for (const auto& row : parsed["rows"]) {
    auto& cells = result.rows.emplace_back();
    for (const auto& cell : row) {
      cells.push_back(cell.is_null() ? std::nullopt : std::optional(cell.get<std::string>()));
    }
  }
  return result;
}

}  // namespace bench
