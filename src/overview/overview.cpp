#include "juniper/overview.h"

#include <algorithm>
#include <filesystem>

#include "base/failure.h"
#include "model/access.h"
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

// The folder of the baseline that is named, or stands beside the model text; "" where there is none.
std::string baseline_of(const Dataset& dataset, const OverviewSettings& settings) {
  if (!settings.baseline.empty()) return settings.baseline;
  std::string folder = baseline_path(dataset.model().path(), dataset.model().options().reader);
  std::error_code none;
  return std::filesystem::exists(folder, none) ? folder : "";
}

// Times and bytes of one revision stand together; days tell the order, and within one that of the recorded.
Result<std::vector<HistoryPoint>> history_of(const Dataset& dataset, const OverviewSettings& settings) {
  std::vector<HistoryPoint> points;
  const auto point = [&](const std::string& revision, const std::string& day) -> HistoryPoint& {
    const auto same =
        std::find_if(points.begin(), points.end(), [&](const HistoryPoint& p) { return p.revision == revision; });
    if (same != points.end()) return *same;
    const auto place = std::find_if(points.begin(), points.end(), [&](const HistoryPoint& p) { return p.day > day; });
    return *points.insert(place, {revision, day, std::nullopt, {}});
  };
  if (const std::string folder = baseline_of(dataset, settings); !folder.empty()) {
    auto times = recorded_times(folder, settings.revisions);
    if (!times) return tl::unexpected(times.error());
    for (RecordedTimes& recorded : *times) point(recorded.revision, recorded.day).times = std::move(recorded.times);
  }
  for (const std::string& before : settings.before) {
    const auto weights = recorded_weights(before, settings.revisions);
    if (!weights) return tl::unexpected(weights.error());
    for (const RecordedWeight& recorded : *weights) point(recorded.revision, recorded.day).bytes = recorded.bytes;
  }
  return points;
}

}  // namespace

Result<Overview> overview(const Dataset& dataset, const OverviewSettings& settings) {
  Overview view;
  view.path = dataset.model().path();
  view.reader = dataset.model().options().reader;
  const language::CheckedModel& model = model::checked(dataset.model());
  view.problems = dataset.warnings();
  for (Diagnostic& problem : dataset.model().disabled_problems()) view.problems.push_back(std::move(problem));
  if (model.calendar) view.calendar = model.column_name(model.calendar->day);
  QueryLog log;
  if (!settings.log.empty()) {
    auto read = read_query_log(settings.log);
    if (!read) return tl::unexpected(read.error());
    log = std::move(*read);
  }
  auto weighing = settings.log.empty() ? weigh(dataset) : weigh(dataset, log);
  if (!weighing) return tl::unexpected(weighing.error());
  view.weighing = std::move(*weighing);
  auto timed = base::guarded([&]() -> Result<std::int64_t> { return load_nanoseconds(store::store_of(dataset)); });
  if (!timed) return tl::unexpected(timed.error());
  view.load_nanoseconds = *timed;
  for (const std::string& before : settings.before) {
    auto changes = weigh_against(view.weighing, before);
    if (!changes) return tl::unexpected(changes.error());
    view.earlier.push_back({std::filesystem::path(before).filename().string(), std::move(*changes)});
  }
  if (settings.revisions != 0) {
    auto history = history_of(dataset, settings);
    if (!history) return tl::unexpected(history.error());
    view.history = std::move(*history);
  }
  // What the parts gather, each of its own function.
  const auto keep = [](auto&& result, auto& part) -> Result<void> {
    if (!result) return tl::unexpected(result.error());
    part = std::move(*result);
    return {};
  };
  Result<void> kept = keep(distributions(dataset), view.distributions);
  if (kept && view.reader.empty()) kept = keep(links(dataset), view.links);
  if (kept && view.reader.empty()) kept = keep(audit(dataset), view.audit);
  if (kept) kept = keep(describe(dataset.model(), "", Hidden::shown), view.descriptions);
  if (!kept) return tl::unexpected(kept.error());
  if (!settings.ask_queries) return view;
  for (QueryInfo& query : dataset.model().queries()) {
    auto result = ask(dataset, {query.name});
    view.queries.push_back({std::move(query), std::move(result)});
  }
  const std::string folder = baseline_of(dataset, settings);
  if (folder.empty()) return view;
  auto checked = check(dataset, folder);
  if (!checked) return tl::unexpected(checked.error());
  view.baseline = std::move(*checked);
  return view;
}

}  // namespace juniper
