#include "juniper/baseline.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/files.h"
#include "juniper/query_log.h"
#include "loading/variants.h"
#include "regress/asked.h"
#include "regress/expected_csv.h"
#include "regress/folder.h"

namespace juniper {

namespace {

constexpr std::size_t differences_shown = 20;

// Everything that is to be recorded, each once: what the model has saved first.
Result<std::vector<regress::RecordedResult>> queries_to_record(const Model& model, const BaselineSettings& settings) {
  std::vector<regress::RecordedResult> queries;
  for (const std::string& name : names_of(model.queries())) queries.emplace_back().query = name;
  auto more = regress::read_queries(model, settings.query_files);
  if (!more) return tl::unexpected(more.error());
  queries.insert(queries.end(), more->begin(), more->end());
  if (settings.log.empty()) return queries;
  const auto logged = regress::read_logged(model, settings.log);
  if (!logged) return tl::unexpected(logged.error());
  for (const regress::RecordedResult& query : *logged) {
    const auto same = std::find_if(queries.begin(), queries.end(),
                                   [&](const regress::RecordedResult& q) { return q.query == query.query; });
    if (same == queries.end()) {
      queries.push_back(query);
    } else {
      same->asked += query.asked;
    }
  }
  return queries;
}

void compare_with_earlier(const regress::Folder& earlier, const regress::Folder& now, const Tolerance& tolerance,
                          BaselineReport& report) {
  for (RecordedQuery& query : report.queries) {
    const auto was = earlier.results.find(query.query);
    if (was == earlier.results.end()) continue;
    const regress::RecordedResult& is = now.results.at(query.query);
    query.comparison = compare(was->second.result, is.result, differences_shown, tolerance);
    // A name can come to stand for another question, which may give the same.
    const bool is_same_question = was->second.text == is.text && was->second.set == is.set;
    query.state = query.comparison.same() && is_same_question ? RecordedState::same : RecordedState::different;
  }
  for (const auto& [query, result] : earlier.results) {
    if (!now.results.contains(query)) report.dropped.push_back(query);
  }
}

// An expected result must fit its query now, whether or not its numbers are met.
Result<void> read_expected(const BaselineSettings& settings, regress::Folder& folder) {
  for (const auto& [query, path] : settings.expected) {
    const auto recorded = folder.results.find(query);
    if (recorded == folder.results.end()) {
      std::vector<std::string> names;
      for (const auto& [name, result] : folder.results) names.push_back(name);
      return tl::unexpected(base::error("JR-905", fmt::format("there is no query '{}' to expect numbers of", query),
                                        base::did_you_mean(query, names)));
    }
    const auto text = base::read_plain_file(path);
    if (!text)
      return tl::unexpected(base::error_at("JR-905", Place{path, 0, 0},
                                           fmt::format("cannot open this file: {}", text.error()), "check the path"));
    const auto fits = regress::compare_with_csv(recorded->second.result, path, *text, 0, {});
    if (!fits) return tl::unexpected(fits.error());
    folder.expected[query] = *text;
  }
  return {};
}

}  // namespace

Result<KnownQueries> known_queries(const std::string& model_path, const std::string& log) {
  return base::guarded([&]() -> Result<KnownQueries> {
    KnownQueries known;
    const std::string folder = baseline_path(model_path);
    if (regress::is_baseline(folder)) {
      const auto recorded = regress::read_folder(folder);
      if (!recorded) return tl::unexpected(recorded.error());
      known.has_baseline = true;
      for (const auto& [name, result] : recorded->results) {
        if (!result.text.empty())
          known.captured.push_back({result.text, result.set, folder + ": " + name, result.asked});
      }
    }
    if (log.empty()) return known;
    const auto logged = read_query_log(log);
    if (!logged) return tl::unexpected(logged.error());
    for (const LoggedQuery& query : logged->queries)
      known.captured.push_back({query.query, query.set, fmt::format("{}:{}", log, query.line), query.times});
    return known;
  });
}

std::size_t BaselineReport::replaced() const {
  const auto different = std::count_if(queries.begin(), queries.end(),
                                       [](const RecordedQuery& q) { return q.state == RecordedState::different; });
  return static_cast<std::size_t>(different) + dropped.size();
}

std::string baseline_path(const std::string& model_path, const std::string& reader) {
  return std::filesystem::path(model_path)
      .replace_extension((reader.empty() ? "" : reader + ".") + "baseline")
      .string();
}

Result<BaselineReport> baseline(const Dataset& dataset, const std::string& path, const BaselineSettings& settings) {
  return base::guarded([&]() -> Result<BaselineReport> {
    auto queries = queries_to_record(dataset.model(), settings);
    if (!queries) return tl::unexpected(queries.error());
    // All queries first: nothing is written when one of them can't be run.
    BaselineReport report;
    report.folder = path;
    regress::Folder folder;
    folder.data = regress::describe_data(dataset);
    folder.machine = regress::describe_machine(dataset);
    const auto texts = regress::relative_texts(dataset.model());
    const std::string model = regress::fingerprint(texts);
    folder.models.emplace(model, texts);
    loading::Variants variants(loading::Placed{dataset, store_path(dataset.model().path(), dataset.options())});
    for (std::size_t i = 0; i < queries->size(); ++i) {
      regress::RecordedResult& query = (*queries)[i];
      if (dataset.options().progress) dataset.options().progress({"recording", 0, i, queries->size(), query.query});
      const auto variant = variants.with(query.set);
      if (!variant) {
        Diagnostics errors = variant.error();
        errors[0].message = fmt::format("the query {}: {}", query.query, errors[0].message);
        return tl::unexpected(std::move(errors));
      }
      auto run = regress::run_timed((*variant)->dataset, query.question());
      if (!run) return tl::unexpected(run.error());
      query.model = model;
      query.result = std::move(run->result);
      const auto values = std::count_if(query.result.columns.begin(), query.result.columns.end(),
                                        [](const ResultColumn& c) { return !c.is_key; });
      RecordedQuery& recorded = report.queries.emplace_back();
      recorded.query = query.query;
      recorded.text = query.text;
      recorded.rows = query.result.rows.size();
      recorded.cells = query.result.rows.size() * static_cast<std::uint64_t>(values);
      recorded.asked = query.asked;
      recorded.nanoseconds = run->nanoseconds;
      folder.times[query.query] = run->nanoseconds;
      std::string name = query.query;
      folder.results.emplace(std::move(name), std::move(query));
    }
    if (regress::is_baseline(path)) {
      auto earlier = regress::read_folder(path);
      if (!earlier) return tl::unexpected(earlier.error());
      folder.seal = earlier->seal;
      report.has_earlier = true;
      compare_with_earlier(*earlier, folder, settings.tolerance, report);
      // What somebody else expects stays until it is replaced.
      for (auto& [query, text] : earlier->expected) {
        if (folder.results.contains(query)) folder.expected.emplace(query, std::move(text));
      }
    }
    if (auto read = read_expected(settings, folder); !read) return tl::unexpected(read.error());
    if (report.replaced() != 0 && !settings.replace) return report;
    if (auto written = regress::write_folder(path, folder, dataset.options().overwrite); !written)
      return tl::unexpected(written.error());
    report.is_written = true;
    return report;
  });
}

}  // namespace juniper
