#include "juniper/overview.h"

#include <filesystem>

#include "base/failure.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

// What reading, computing, encoding and linking took, the time of several threads added up.
std::int64_t load_nanoseconds(const store::Store& store) {
  std::int64_t sum = 0;
  for (const store::StoredTable& table : store.tables) {
    sum += table.read_nanoseconds + table.encode_nanoseconds;
    for (const store::StoredColumn& column : table.columns)
      sum += column.calculated ? column.evaluate_nanoseconds + column.encode_nanoseconds : 0;
  }
  for (const store::StoredLink& link : store.links) sum += link.resolve_nanoseconds;
  return sum;
}

}  // namespace

Result<Overview> overview(const Dataset& dataset, const OverviewSettings& settings) {
  Overview view;
  view.path = dataset.model().path();
  QueryLog log;
  if (!settings.log.empty()) {
    auto read = read_query_log(settings.log);
    if (!read) return tl::unexpected(read.error());
    log = std::move(*read);
  }
  view.weighing = settings.log.empty() ? weigh(dataset) : weigh(dataset, log);
  auto timed = base::guarded([&]() -> Result<std::int64_t> { return load_nanoseconds(store::store_of(dataset)); });
  if (!timed) return tl::unexpected(timed.error());
  view.load_nanoseconds = *timed;
  for (const std::string& before : settings.before) {
    auto changes = weigh_against(view.weighing, before);
    if (!changes) return tl::unexpected(changes.error());
    view.earlier.push_back({std::filesystem::path(before).filename().string(), std::move(*changes)});
  }
  // What the parts gather, each of its own function.
  const auto keep = [](auto&& result, auto& part) -> Result<void> {
    if (!result) return tl::unexpected(result.error());
    part = std::move(*result);
    return {};
  };
  Result<void> kept = keep(distributions(dataset), view.distributions);
  if (kept) kept = keep(links(dataset), view.links);
  if (kept) kept = keep(audit(dataset), view.audit);
  if (kept) kept = keep(describe(dataset.model(), "", Hidden::shown), view.descriptions);
  if (!kept) return tl::unexpected(kept.error());
  if (!settings.ask_queries) return view;
  for (QueryInfo& query : dataset.model().queries()) {
    auto result = ask(dataset, {query.name});
    view.queries.push_back({std::move(query), std::move(result)});
  }
  const std::string folder =
      settings.baseline.empty() ? baseline_path(view.path, dataset.model().options().reader) : settings.baseline;
  std::error_code none;
  if (settings.baseline.empty() && !std::filesystem::exists(folder, none)) return view;
  auto checked = check(dataset, folder);
  if (!checked) return tl::unexpected(checked.error());
  view.baseline = std::move(*checked);
  return view;
}

}  // namespace juniper
