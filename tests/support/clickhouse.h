// ClickHouse servers of the tests: in a folder of their own, on free ports of this machine.
#pragma once

#include <sys/types.h>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "language/checked.h"
#include "support/support.h"

namespace juniper::test {

class Clickhouse {
 public:
  // With others that run already it makes a cluster, "shards": itself and these, by their native ports.
  explicit Clickhouse(const std::vector<int>& others = {});
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

  // The same with every table spread over this server and another, by a Distributed table of the cluster under its name.
  bool spread(const Dataset& dataset, const Clickhouse& other);

  // Ends the process at once, as a crash does; starts it again.
  void kill();
  void start();

 private:
  void create(const language::Table& table, const std::string& name) const;

  TempFolder folder_;
  std::string problem_;
  pid_t process_ = -1;
  int http_port_ = 0;
  int native_port_ = 0;
};

}  // namespace juniper::test
