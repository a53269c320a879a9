// Many clients at once over one store.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

struct ReplaySettings {
  unsigned clients = 4;
  double seconds = 10;
  std::string log;         // a log of captured queries, each asked as often as it stands there; "": all saved queries
  std::uint64_t seed = 1;  // of the order in which each client asks
};

struct ReplayReport {
  unsigned clients = 0;
  double seconds = 0;         // that it took
  std::uint64_t queries = 0;  // different ones
  std::uint64_t answers = 0;
  double answers_a_second = 0;
  std::int64_t median_nanoseconds = 0;  // of one answer, as its client waited for it
  std::int64_t p99_nanoseconds = 0;
  std::int64_t most_nanoseconds = 0;
  std::uint64_t wrong = 0;                 // answers that were not those of one client alone, with all its cells
  std::vector<std::string> wrong_queries;  // the first few

  bool passed() const { return wrong == 0; }
};

// Asks each query once, alone; then lets the clients ask them, each on a thread of its own and without threads within a
// query, until the time is over, and compares every answer, cell by cell, with the first one. Errors: those of the log
// and of the queries.
Result<ReplayReport> replay(const Dataset& dataset, const ReplaySettings& settings = {});

}  // namespace juniper
