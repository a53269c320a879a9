// Queries that reports have sent, as captured in a log.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

struct LoggedQuery {
  std::string query;                       // its clauses, or a saved query's name
  std::map<std::string, std::string> set;  // values of the model's parameters with which it was asked
  std::vector<std::string> users;          // who asked, each once, in the order of the log
  std::uint64_t times = 0;                 // that it stands in the log
  std::uint64_t line = 0;                  // where it stands first, from 1
};

struct QueryLog {
  std::string path;
  std::vector<LoggedQuery> queries;  // each once, in the order of their first lines
  std::uint64_t lines() const {
    std::uint64_t total = 0;
    for (const LoggedQuery& query : queries) total += query.times;
    return total;
  }
};

// Reads a log of JSON lines, one object a line (docs/baseline.md): "query" is the text of a query or the name of a
// saved one, "set" an object of parameters and their values as texts, "user" who asked. Other members ("time", …) and
// empty lines are passed over. Queries that are asked with the same parameters are one. Errors: JR-501 (the file can't
// be read), JR-007 (a line is no such object).
Result<QueryLog> read_query_log(const std::string& path);

}  // namespace juniper
