// The folder of a baseline:
//
//   data.txt        what the baseline was taken on: one line for each source file, TABLE<TAB>FILE<TAB>BYTES<TAB>HASH
//   QUERY.result    one file for each saved query; see result_file.h. Characters of the name other than letters,
//   digits,
//                   '_' and '-' are written %XX.
//   times.txt       QUERY<TAB>NANOSECONDS, apart from the results, so that these differ only where results do
#include "juniper/baseline.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <map>
#include <sstream>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "regress/result_file.h"
#include "store/store.h"

namespace juniper {

namespace {

namespace fs = std::filesystem;

constexpr int runs = 3;
constexpr std::size_t samples = 10;  // differences kept of each query
constexpr std::string_view data_file = "data.txt";
constexpr std::string_view times_file = "times.txt";
constexpr std::string_view result_ending = ".result";

std::string file_name(const std::string& query) {
  std::string name;
  for (const char c : query) {
    const bool plain =
        (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '-';
    name += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return name + std::string(result_ending);
}

std::string describe_data(const Dataset& dataset) {
  std::string text;
  for (const source::SourceFile& file : dataset.store().sources) {
    text += fmt::format("{}\t{}\t{}\t{:016x}\n", file.table, fs::path(file.path).filename().string(), file.bytes,
                        file.hash);
  }
  return text;
}

Result<void> write_file(const fs::path& path, const std::string& text) {
  std::ofstream file(path, std::ios::binary | std::ios::trunc);
  file << text;
  file.close();
  if (!file)
    return tl::unexpected(
        base::error("JR-901", fmt::format("cannot write {}: {}", path.string(), std::strerror(errno))));
  return {};
}

std::optional<std::string> read_file(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  return std::string{std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
}

// A query's result, and the median time of a few runs.
Result<std::pair<QueryResult, std::int64_t>> run_query(const Dataset& dataset, const std::string& query) {
  std::vector<std::int64_t> times;
  QueryResult first;
  for (int run = 0; run < runs; ++run) {
    auto result = ask(dataset, {query, {}});
    if (!result) return tl::unexpected(result.error());
    times.push_back(result->nanoseconds);
    if (run == 0) first = std::move(*result);
  }
  std::sort(times.begin(), times.end());
  return std::pair(std::move(first), times[times.size() / 2]);
}

bool is_result_file(const fs::path& path) {
  if (path.extension() != result_ending) return false;
  const auto text = read_file(path);
  return text && text->starts_with(regress::first_line);
}

// A folder may be written into when it is new, empty, or a baseline's.
Result<void> prepare_folder(const fs::path& folder) {
  std::error_code error;
  if (fs::exists(folder, error) && !fs::exists(folder / data_file, error) &&
      (!fs::is_directory(folder, error) || !fs::is_empty(folder, error))) {
    return tl::unexpected(base::error("JR-902",
                                      fmt::format("{} holds something other than a baseline", folder.string()),
                                      "name a new folder with --dir"));
  }
  fs::create_directories(folder, error);
  if (error)
    return tl::unexpected(
        base::error("JR-901", fmt::format("cannot make the folder {}: {}", folder.string(), error.message())));
  return {};
}

std::map<std::string, std::int64_t> read_times(const fs::path& folder) {
  std::map<std::string, std::int64_t> times;
  std::istringstream lines(read_file(folder / times_file).value_or(""));
  for (std::string line; std::getline(lines, line);) {
    if (const std::size_t tab = line.rfind('\t'); tab != std::string::npos)
      times[line.substr(0, tab)] = std::strtoll(line.c_str() + tab + 1, nullptr, 10);
  }
  return times;
}

// Every recorded result in the folder, by the query's name.
Result<std::map<std::string, QueryResult>> read_results(const fs::path& folder) {
  std::map<std::string, QueryResult> results;
  Diagnostics errors;
  std::vector<fs::path> paths;
  std::error_code error;
  for (const auto& entry : fs::directory_iterator(folder, error)) {
    if (entry.path().extension() == result_ending) paths.push_back(entry.path());
  }
  std::sort(paths.begin(), paths.end());
  for (const fs::path& path : paths) {
    auto read = regress::read_result(path.string(), read_file(path).value_or(""));
    if (!read) {
      errors.insert(errors.end(), read.error().begin(), read.error().end());
      continue;
    }
    results.emplace(read->query, std::move(read->result));
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return results;
}

CheckedQuery check_query(const Dataset& dataset, const std::string& query, const QueryResult& recorded) {
  CheckedQuery checked;
  checked.query = query;
  const auto names = dataset.model().queries();
  if (std::find(names.begin(), names.end(), query) == names.end()) {
    checked.state = CheckState::lost;
    return checked;
  }
  const auto now = run_query(dataset, query);
  if (!now) {
    checked.state = CheckState::failed;
    checked.errors = now.error();
    return checked;
  }
  checked.nanoseconds = now->second;
  checked.comparison = compare(recorded, now->first, samples);
  checked.state = checked.comparison.same() ? CheckState::same : CheckState::different;
  return checked;
}

}  // namespace

std::string baseline_path(const std::string& model_path) {
  return fs::path(model_path).replace_extension(".baseline").string();
}

Result<BaselineReport> baseline(const Dataset& dataset, const std::string& folder) {
  return base::guarded([&]() -> Result<BaselineReport> {
    const fs::path path(folder);
    // All queries first: nothing is written when one of them can't be run.
    BaselineReport report{folder, {}, {}};
    std::map<std::string, std::string> files;
    std::string times;
    for (const std::string& query : dataset.model().queries()) {
      const auto run = run_query(dataset, query);
      if (!run) return tl::unexpected(run.error());
      const QueryResult& result = run->first;
      const auto values =
          std::count_if(result.columns.begin(), result.columns.end(), [](const ResultColumn& c) { return !c.is_key; });
      report.queries.push_back(
          {query, result.rows.size(), result.rows.size() * static_cast<std::uint64_t>(values), run->second});
      files.emplace(file_name(query), regress::write_result(query, result));
      times += fmt::format("{}\t{}\n", query, run->second);
    }
    if (auto ready = prepare_folder(path); !ready) return tl::unexpected(ready.error());
    files.emplace(data_file, describe_data(dataset));
    files.emplace(times_file, times);
    for (const auto& [name, text] : files) {
      if (auto written = write_file(path / name, text); !written) return tl::unexpected(written.error());
    }
    std::error_code error;
    for (const auto& entry : fs::directory_iterator(path, error)) {
      const std::string name = entry.path().filename().string();
      if (files.contains(name) || !is_result_file(entry.path())) continue;
      report.dropped.push_back(entry.path().stem().string());
      fs::remove(entry.path(), error);
    }
    std::sort(report.dropped.begin(), report.dropped.end());
    return report;
  });
}

bool CheckReport::passed() const {
  return std::all_of(queries.begin(), queries.end(),
                     [](const CheckedQuery& q) { return q.state == CheckState::same || q.state == CheckState::added; });
}

Result<CheckReport> check(const Dataset& dataset, const std::string& folder) {
  return base::guarded([&]() -> Result<CheckReport> {
    const fs::path path(folder);
    const auto data = read_file(path / data_file);
    if (!data)
      return tl::unexpected(base::error("JR-903", fmt::format("there is no baseline in {}", folder),
                                        "record one first: juniper baseline"));
    const auto recorded = read_results(path);
    if (!recorded) return tl::unexpected(recorded.error());
    const auto times = read_times(path);
    CheckReport report{folder, {}, *data != describe_data(dataset)};
    for (const auto& [query, result] : *recorded) {
      report.queries.push_back(check_query(dataset, query, result));
      if (const auto time = times.find(query); time != times.end())
        report.queries.back().recorded_nanoseconds = time->second;
    }
    for (const std::string& query : dataset.model().queries()) {
      if (recorded->contains(query)) continue;
      CheckedQuery added;
      added.query = query;
      added.state = CheckState::added;
      report.queries.push_back(std::move(added));
    }
    return report;
  });
}

}  // namespace juniper
