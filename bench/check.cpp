// What checks take, and how far their times can be trusted, over the charging network as `juniper demo` makes it.
// usage: bench_check FOLDER SESSIONS PEER REPEATS
//
// 500 queries recorded and checked over all sessions. Then, over a tenth of them and beside a thread that takes the
// processor now and then: each saved query compared in speed with itself, 200 comparisons in all, which should raise no
// alarm; and with itself made 30% slower on purpose, 100 comparisons. Last, clients that ask all queries at once.
#include <fmt/format.h>

#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <random>
#include <thread>

#include "juniper/ask.h"
#include "juniper/baseline.h"
#include "juniper/demo.h"
#include "juniper/replay.h"
#include "must.h"
#include "timing.h"

namespace {

using namespace juniper;
using bench::must;
using Clock = std::chrono::steady_clock;
namespace fs = std::filesystem;

constexpr unsigned threads = 2;
constexpr std::uint64_t seed = 7;

Dataset open_demo(const std::string& folder, std::uint64_t sessions) {
  if (!fs::exists(folder + "/charging.ridge") && !write_demo(folder, {sessions, seed})) std::exit(3);
  Options options;
  options.threads = threads;
  return must(Dataset::open(folder + "/charging.ridge", options));
}

// Each of some measures by each of some columns, with and without filters.
std::string many_queries(std::size_t count) {
  const std::vector<std::string> measures{"n_sessions",  "energy",       "revenue",      "price",        "avg_price",
                                          "per_session", "idle_revenue", "longest_idle", "active_cards", "mean_air"};
  const std::vector<std::string> columns{"days.year",     "days.month_name", "days.weekday_name", "stations.region",
                                         "stations.name", "tariffs.plan",    "sessions.channel",  "cards.holder",
                                         "bays.max_kw",   "end_date.quarter"};
  const std::vector<std::string> filters{"", " where days.year = 2025", " where stations.region = \"Coast\"",
                                         " where sessions.channel = \"app\"", " where sessions.idle_minutes > 0"};
  std::string text;
  for (std::size_t i = 0; i < count; ++i) {
    text += fmt::format("query made_{} {{ by {} show {}{} total grand }}\n", i, columns[i % columns.size()],
                        measures[i / columns.size() % measures.size()],
                        filters[i / columns.size() / measures.size() % filters.size()]);
  }
  return text;
}

void measure_many(const Dataset& dataset, const std::string& folder) {
  const std::string queries = folder + "/many.ridge";
  const std::string baseline_folder = folder + "/many.baseline";
  fs::remove_all(baseline_folder);
  std::ofstream(queries) << many_queries(500);
  BaselineSettings settings;
  settings.query_files = {queries};
  std::size_t recorded = 0;
  const double recording =
      bench::milliseconds_of([&] { recorded = must(baseline(dataset, baseline_folder, settings)).queries.size(); });
  bool passed = false;
  const double checking = bench::milliseconds_of([&] { passed = must(check(dataset, baseline_folder)).passed(); });
  fmt::print("{} queries recorded in {:.1f} s, checked in {:.1f} s: {}\n", recorded, recording / 1000, checking / 1000,
             passed ? "all the same" : "DIFFERENT");
  fs::remove_all(baseline_folder);
}

// Takes a processor for a while, now and then.
class Load {
 public:
  Load() : thread_([this] { run(); }) {}
  ~Load() {
    over_ = true;
    thread_.join();
  }

 private:
  void run() {
    std::mt19937_64 random(1);
    while (!over_) {
      const auto end = Clock::now() + std::chrono::milliseconds(random() % 40);
      while (Clock::now() < end && !over_) {
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(random() % 60));
    }
  }
  std::atomic<bool> over_ = false;
  std::thread thread_;
};

void measure_trust(const Dataset& dataset) {
  const std::vector<std::string> queries = names_of(dataset.model().queries());
  const Load load;
  const auto once = [&](const std::string& query) { return ask(dataset, {query})->nanoseconds; };
  const auto slowed = [&](const std::string& query) {
    const std::int64_t time = once(query);
    const auto end = Clock::now() + std::chrono::nanoseconds(time * 3 / 10);
    while (Clock::now() < end) {
    }
    return time + time * 3 / 10;
  };
  SpeedSettings settings;
  std::array<int, 4> verdicts{};
  std::vector<double> seconds;
  for (std::size_t i = 0; i < 200; ++i) {
    const std::string& query = queries[i % queries.size()];
    settings.seed = i + 1;
    seconds.push_back(bench::milliseconds_of([&] {
                        const SpeedComparison made =
                            compare_speed([&] { return once(query); }, [&] { return once(query); }, settings);
                        ++verdicts[static_cast<std::size_t>(made.verdict)];
                      }) /
                      1000);
  }
  fmt::print(
      "200 comparisons of a query with itself under load, at most {} s each (median {:.2f} s): "
      "{} faster, {} same, {} slower, {} can't be told\n",
      settings.seconds, bench::median(seconds), verdicts[0], verdicts[1], verdicts[2], verdicts[3]);
  int found = 0;
  for (std::size_t i = 0; i < 100; ++i) {
    const std::string& query = queries[i % queries.size()];
    settings.seed = i + 1;
    const SpeedComparison made = compare_speed([&] { return once(query); }, [&] { return slowed(query); }, settings);
    found += made.verdict == SpeedVerdict::slower ? 1 : 0;
  }
  fmt::print("100 comparisons with a query made 30% slower: {} found\n", found);
}

void measure_clients(const Dataset& dataset) {
  for (const unsigned clients : {1U, 2U, 8U}) {
    ReplaySettings settings;
    settings.clients = clients;
    settings.seconds = 5;
    const ReplayReport report = must(replay(dataset, settings));
    fmt::print("{} clients: {:.0f} answers a second, median {:.2f} ms, 99 of 100 within {:.2f} ms, {} wrong\n", clients,
               report.answers_a_second, static_cast<double>(report.median_nanoseconds) / 1e6,
               static_cast<double>(report.p99_nanoseconds) / 1e6, report.wrong);
  }
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 5) {
    std::cerr << "usage: bench_check FOLDER SESSIONS PEER REPEATS\n";
    return 2;
  }
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  fmt::print("{} sessions, {} threads\n\n", sessions, threads);
  measure_many(open_demo(folder, sessions), folder);
  const Dataset tenth = open_demo(folder + "-tenth", sessions / 10);
  measure_trust(tenth);
  measure_clients(tenth);
  return 0;
}
