#include "juniper/query_log.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <sstream>

#include "base/failure.h"
#include "base/files.h"
#include "base/json.h"

namespace juniper {

namespace {

// The parameters of a line; nothing if they are not so written.
std::optional<std::map<std::string, std::string>> settings_of(const base::Json& entry) {
  std::map<std::string, std::string> settings;
  const base::Json* const set = entry.find("set");
  if (set == nullptr) return settings;
  if (set->members() == nullptr) return std::nullopt;
  for (const auto& [name, value] : *set->members()) {
    if (value.text() == nullptr) return std::nullopt;
    settings.insert_or_assign(name, *value.text());
  }
  return settings;
}

}  // namespace

Result<QueryLog> read_query_log(const std::string& path) {
  return base::guarded([&]() -> Result<QueryLog> {
    auto bytes = base::read_plain_file(path);
    if (!bytes) {
      return tl::unexpected(
          base::error_at("JR-501", Place{path, 0, 0}, fmt::format("cannot open this file: {}", bytes.error())));
    }
    std::istringstream file(std::move(*bytes));
    QueryLog log;
    log.path = path;
    std::map<std::pair<std::string, std::map<std::string, std::string>>, std::size_t> known;
    std::set<std::pair<std::size_t, std::string>> users;  // of each query
    std::string text;
    for (std::uint32_t line = 1; std::getline(file, text); ++line) {
      if (text.find_first_not_of(" \t\r") == std::string::npos) continue;
      const base::Json entry = base::parse_json(text).value.value_or(base::Json());
      const std::string* const query = entry.find_text("query");
      if (query == nullptr) {
        return tl::unexpected(base::error_at("JR-007", Place{path, line, 0},
                                             "this line is no JSON object with a text \"query\"",
                                             R"(write a line for each query: {"query": "by days.year show revenue"})"));
      }
      const auto set = settings_of(entry);
      if (!set) {
        return tl::unexpected(base::error_at("JR-007", Place{path, line, 0},
                                             "\"set\" is no JSON object of parameters and their values as texts",
                                             R"(write {"query": "monthly", "set": {"min_price": "0.5"}})"));
      }
      const auto [at, fresh] = known.emplace(std::pair(*query, *set), log.queries.size());
      if (fresh) log.queries.push_back({at->first.first, *set, {}, 0, line});
      LoggedQuery& logged = log.queries[at->second];
      ++logged.times;
      const std::string* const user = entry.find_text("user");
      if (user != nullptr && !user->empty() && users.emplace(at->second, *user).second) logged.users.push_back(*user);
    }
    return log;
  });
}

}  // namespace juniper
