// ClickHouse servers of the tests: in a folder of their own, on free ports of this machine.
#pragma once

#include <sys/types.h>
#include <string>

#include "juniper/dataset.h"
#include "support/support.h"

namespace juniper::test {

class Clickhouse {
 public:
  Clickhouse();
  ~Clickhouse();
  Clickhouse(const Clickhouse&) = delete;
  Clickhouse& operator=(const Clickhouse&) = delete;

  // What went wrong when starting it; "" when it runs.
  const std::string& problem() const { return problem_; }

  // How a client reaches it.
  std::string place() const;
  int native_port() const { return native_port_; }
  // What the server answers to a statement; an exception where it refuses.
  std::string run(const std::string& statement, const std::string& rows = "") const;

  // Replaces all tables by those of a dataset: with all columns, calculated ones too. False where they hold days or moments
  // that its types do not.
  bool load(const Dataset& dataset);

  // Ends the process at once, as a crash does; starts it again.
  void kill();
  void start();

 private:
  TempFolder folder_;
  std::string problem_;
  pid_t process_ = -1;
  int http_port_ = 0;
  int native_port_ = 0;
};

}  // namespace juniper::test
