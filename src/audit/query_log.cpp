#include "juniper/query_log.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "base/failure.h"

namespace juniper {

Result<QueryLog> read_query_log(const std::string& path) {
  return base::guarded([&]() -> Result<QueryLog> {
    std::ifstream file(path, std::ios::binary);
    if (!file) {
      return tl::unexpected(
          base::error_at("JR-501", Place{path, 0, 0}, fmt::format("cannot open this file: {}", std::strerror(errno))));
    }
    QueryLog log;
    log.path = path;
    std::map<std::string, std::size_t> known;
    std::string text;
    for (std::uint32_t line = 1; std::getline(file, text); ++line) {
      if (text.find_first_not_of(" \t\r") == std::string::npos) continue;
      const nlohmann::json entry = nlohmann::json::parse(text, nullptr, false);
      if (!entry.is_object() || !entry.contains("query") || !entry["query"].is_string()) {
        return tl::unexpected(base::error_at("JR-007", Place{path, line, 0},
                                             "this line is no JSON object with a text \"query\"",
                                             R"(write a line for each query: {"query": "by days.year show revenue"})"));
      }
      const auto [at, fresh] = known.emplace(entry["query"].get<std::string>(), log.queries.size());
      if (fresh) log.queries.push_back({at->first, 0, line});
      ++log.queries[at->second].times;
    }
    return log;
  });
}

}  // namespace juniper
