// The engine that Juniper Ridge is measured beside, in a process of its own (bench/peer).
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <cstdio>
#include <optional>
#include <string>
#include <vector>

namespace bench {

class Peer {
 public:
  // Starts `node peer.mjs` in `folder`, where its packages are installed. Ends the program if that can't be done.
  Peer(const std::string& folder, unsigned threads);
  ~Peer();
  Peer(const Peer&) = delete;
  Peer& operator=(const Peer&) = delete;

  // Runs a statement and gives its nanoseconds. An error ends the program with the statement.
  std::int64_t run(const std::string& sql) { return ask(sql, false).nanoseconds; }
  // Its rows as texts, null as nothing.
  struct Answer {
    std::int64_t nanoseconds = 0;
    std::vector<std::vector<std::optional<std::string>>> rows;
  };
  Answer rows(const std::string& sql) { return ask(sql, true); }

 private:
  Answer ask(const std::string& sql, bool rows);

  pid_t process_ = 0;
  std::FILE* to_ = nullptr;
  std::FILE* from_ = nullptr;
};

}  // namespace bench
