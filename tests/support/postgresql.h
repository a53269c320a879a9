// A PostgreSQL server of the tests' own, in a folder that is gone with it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "support/support.h"

namespace juniper::test {

class Postgresql {
 public:
  // Starts a server that listens on a socket in its folder alone.
  Postgresql();
  ~Postgresql();
  Postgresql(const Postgresql&) = delete;
  Postgresql& operator=(const Postgresql&) = delete;

  // What went wrong when starting it; "" when it runs.
  const std::string& problem() const { return problem_; }

  // How a client reaches it.
  std::string place() const { return "host=" + folder_.path("data") + " user=postgres dbname=postgres"; }

  // Replaces all tables by those of a dataset: with all columns, calculated ones too.
  void load(const Dataset& dataset);

  // Runs a file of a folder in psql, with that folder as its own; gives what went wrong.
  std::string run_file(const std::string& folder, const std::string& file) const;

  // The rows of each statement, as texts, null as nothing; or what the server said instead.
  struct Answer {
    std::vector<std::vector<std::optional<std::string>>> rows;
    std::string error;
  };
  std::vector<Answer> run(const std::vector<std::string>& statements);

 private:
  ProcessResult shell(const std::string& command) const;

  TempFolder folder_;
  std::string as_owner_;  // in front of what must not be done by root
  std::string bin_;
  std::string problem_;
  int scripts_ = 0;
};

}  // namespace juniper::test
