#include "regress/asked.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/diagnostics.h"
#include "base/files.h"
#include "juniper/query_log.h"
#include "language/parser.h"
#include "regress/folder.h"
#include "store/of_dataset.h"

namespace juniper::regress {

namespace {

constexpr int runs = 3;
constexpr std::int64_t long_run = 1'000'000'000;  // nanoseconds

bool is_saved(const Model& model, const std::string& name) {
  const auto names = names_of(model.queries());
  return std::find(names.begin(), names.end(), name) != names.end();
}

}  // namespace

Result<Timed> run_timed(const Dataset& dataset, const std::string& question) {
  Timed timed;
  std::vector<std::int64_t> times;
  for (int run = 0; run < runs; ++run) {
    auto result = ask(dataset, {question});
    if (!result) return tl::unexpected(result.error());
    times.push_back(result->nanoseconds);
    if (run == 0) timed.result = std::move(*result);
    if (times.back() > long_run) break;
  }
  std::sort(times.begin(), times.end());
  timed.nanoseconds = times[times.size() / 2];
  return timed;
}

Result<std::vector<RecordedResult>> read_queries(const Model& model, const std::vector<std::string>& paths) {
  std::vector<RecordedResult> queries;
  std::set<std::string> names;
  for (const std::string& path : paths) {
    const auto text = base::read_plain_file(path);
    if (!text)
      return tl::unexpected(base::error_at("JR-001", Place{path, 0, 0},
                                           fmt::format("cannot open this file: {}", text.error()), "check the path"));
    language::Sources sources;
    const std::uint32_t file = sources.add({path, *text});
    Diagnostics problems;
    const language::syntax::Model parsed = language::parse_model(sources, file, problems);
    if (!problems.empty()) return tl::unexpected(std::move(problems));
    const auto refuse = [&](const std::string& what) {
      return tl::unexpected(
          base::error_at("JR-906", Place{path, 0, 0}, what,
                         "such a file holds nothing but `query NAME { … }`, under names of their own"));
    };
    if (!parsed.tables.empty() || !parsed.links.empty() || !parsed.parameters.empty() || !parsed.calendars.empty() ||
        !parsed.includes.empty() || !parsed.measures.empty())
      return refuse("this file of queries holds other declarations, too");
    for (const language::syntax::Query& query : parsed.queries) {
      RecordedResult& made = queries.emplace_back();
      made.query = query.name->text;
      made.text = sources.text(query.span);
      if (is_saved(model, made.query)) return refuse(fmt::format("the model has a query '{}'", made.query));
      if (!names.insert(made.query).second) return refuse(fmt::format("there are two queries '{}'", made.query));
    }
  }
  return queries;
}

Result<std::vector<RecordedResult>> read_logged(const Model& model, const std::string& path) {
  const auto log = read_query_log(path);
  if (!log) return tl::unexpected(log.error());
  std::vector<RecordedResult> queries;
  std::set<std::string> names;
  for (const LoggedQuery& logged : log->queries) {
    RecordedResult& made = queries.emplace_back();
    made.set = logged.set;
    made.asked = logged.times;
    if (is_saved(model, logged.query) && logged.set.empty()) {
      made.query = logged.query;
      continue;
    }
    std::string all = fmt::format("{:?}", logged.query);
    for (const auto& [name, value] : logged.set) all += fmt::format(" {:?} {:?}", name, value);
    const std::string name = fmt::format("log-{:016x}", store::hash_bytes(std::as_bytes(std::span(all))));
    made.query = name;
    // Two of one hash are two queries all the same.
    for (int number = 2; !names.insert(made.query).second; ++number) made.query = fmt::format("{}-{}", name, number);
    made.text = logged.query;
  }
  return queries;
}

}  // namespace juniper::regress
