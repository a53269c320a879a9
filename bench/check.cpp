// What checks take, and how far their times can be trusted, over the charging network as `juniper demo` makes it.
// usage: bench_check FOLDER SESSIONS PEER REPEATS [MILLISECONDS]    (of the queries whose times are trusted: 1, 100, 2000)
//
// 500 queries recorded and checked over all sessions. Then, over a tenth of them: each saved query compared in speed with
// itself made slower on purpose, which should be found, and, beside a thread that takes the processor now and then, with
// itself as it is, which should raise no alarm, nor beside two threads that never rest. Last, clients that ask all queries at once.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdio>
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

// Takes a processor for a while, now and then; or so many at all times.
class Load {
 public:
  enum class Kind { now_and_then, restless };
  explicit Load(Kind kind) {
    for (unsigned t = 0; t < (kind == Kind::restless ? threads : 1); ++t)
      threads_.emplace_back([this, kind] { kind == Kind::restless ? run_on() : run(); });
  }
  ~Load() {
    over_ = true;
    for (std::thread& thread : threads_) thread.join();
  }

 private:
  void run_on() const {
    while (!over_) {
    }
  }
  void run() const {
    std::mt19937_64 random(1);
    while (!over_) {
      const auto end = Clock::now() + std::chrono::milliseconds(random() % 40);
      while (Clock::now() < end && !over_) {
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(random() % 60));
    }
  }
  std::atomic<bool> over_ = false;
  std::vector<std::thread> threads_;
};

// So many answers one after the other that they take about as long as is asked for, and the time of all.
class Repeated {
 public:
  Repeated(const Dataset& dataset, std::string query, double milliseconds)
      : dataset_(dataset), query_(std::move(query)) {
    run(1);
    times_ = std::max<std::uint64_t>(1, static_cast<std::uint64_t>(milliseconds * 1e6 / static_cast<double>(run(1))));
  }
  // In time: the number of answers is what is planted, rounded up.
  std::int64_t operator()(double factor) const {
    return run(static_cast<std::uint64_t>(std::ceil(static_cast<double>(times_) * factor)));
  }

 private:
  std::int64_t run(std::uint64_t times) const {
    const auto begin = Clock::now();
    for (std::uint64_t i = 0; i < times; ++i) (void)must(ask(dataset_, {query_}));
    return std::chrono::duration_cast<std::chrono::nanoseconds>(Clock::now() - begin).count();
  }

  const Dataset& dataset_;
  std::string query_;
  std::uint64_t times_ = 1;
};

struct Trial {
  double milliseconds;
  std::size_t with_itself;  // comparisons
  std::size_t planted[3];   // of 1.3, 2 and 10 times
};

void measure_trust(const Dataset& dataset, double milliseconds) {
  const std::vector<std::string> queries = names_of(dataset.model().queries());
  for (const Trial& trial :
       {Trial{1, 100, {100, 100, 100}}, Trial{100, 80, {100, 100, 50}}, Trial{2000, 20, {20, 20, 5}}}) {
    if (milliseconds != 0 && trial.milliseconds != milliseconds) continue;
    const auto compare = [&](std::size_t i, double factor) {
      const Repeated query(dataset, queries[i % queries.size()], trial.milliseconds);
      SpeedSettings settings;
      settings.seed = i + 1;
      return compare_speed([&] { return query(1); }, [&] { return query(factor); }, settings);
    };
    fmt::print("queries of {} ms\n", trial.milliseconds);
    for (std::size_t i = 0; i < 3; ++i) {
      const double factor = std::array{1.3, 2.0, 10.0}[i];
      std::size_t found = 0;
      std::vector<double> seconds;
      for (std::size_t n = 0; n < trial.planted[i]; ++n) {
        seconds.push_back(
            bench::milliseconds_of([&] { found += compare(n, factor).verdict == SpeedVerdict::slower ? 1 : 0; }) /
            1000);
      }
      fmt::print("  {} times as slow: {} of {} found, median {:.2f} s, at most {:.2f} s\n", factor, found,
                 trial.planted[i], bench::median(seconds), *std::max_element(seconds.begin(), seconds.end()));
    }
    for (const Load::Kind kind : {Load::Kind::now_and_then, Load::Kind::restless}) {
      const Load load(kind);
      std::array<std::size_t, 4> verdicts{};
      for (std::size_t n = 0; n < trial.with_itself; ++n) ++verdicts[static_cast<std::size_t>(compare(n, 1).verdict)];
      fmt::print("  with itself, beside {}: {} comparisons, {} faster, {} same, {} slower, {} can't be told\n",
                 kind == Load::Kind::restless ? "two threads that never rest" : "a thread that works now and then",
                 trial.with_itself, verdicts[0], verdicts[1], verdicts[2], verdicts[3]);
      std::fflush(stdout);
    }
  }
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
  if (count != 5 && count != 6) {
    std::cerr << "usage: bench_check FOLDER SESSIONS PEER REPEATS [MILLISECONDS]\n";
    return 2;
  }
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  fmt::print("{} sessions, {} threads\n\n", sessions, threads);
  const double milliseconds = count == 6 ? std::stod(arguments[5]) : 0;
  if (milliseconds == 0) measure_many(open_demo(folder, sessions), folder);
  const Dataset tenth = open_demo(folder + "-tenth", sessions / 10);
  measure_trust(tenth, milliseconds);
  if (milliseconds != 0) return 0;
  measure_clients(tenth);
  return 0;
}
