#include "juniper/replay.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <random>
#include <thread>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "juniper/ask.h"
#include "juniper/compare.h"
#include "loading/variants.h"
#include "regress/asked.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

using Clock = std::chrono::steady_clock;

// A query as clients ask it, and what it must give.
struct Asked {
  std::string name;
  std::string question;
  Dataset dataset;
  QueryResult expected;
};

struct Client {
  std::vector<std::int64_t> times;
  std::uint64_t wrong = 0;
  std::vector<std::string> wrong_queries;
};

constexpr std::size_t most_named = 5;

void run_client(const std::vector<Asked>& queries, const std::vector<std::size_t>& schedule, std::uint64_t seed,
                Clock::time_point end, Client& client) {
  std::vector<std::size_t> order = schedule;
  std::mt19937_64 random(seed);
  while (Clock::now() < end) {
    std::shuffle(order.begin(), order.end(), random);
    for (const std::size_t index : order) {
      const Asked& asked = queries[index];
      const auto begin = Clock::now();
      if (begin >= end) return;
      const auto answer = ask(asked.dataset, {asked.question});
      client.times.push_back(std::chrono::nanoseconds(Clock::now() - begin).count());
      if (answer && compare(asked.expected, *answer, 0).same()) continue;
      ++client.wrong;
      if (client.wrong_queries.size() < most_named) client.wrong_queries.push_back(asked.name);
    }
  }
}

std::int64_t part_of(const std::vector<std::int64_t>& sorted, double part) {
  if (sorted.empty()) return 0;
  return sorted[static_cast<std::size_t>(part * static_cast<double>(sorted.size() - 1))];
}

}  // namespace

Result<ReplayReport> replay(const Dataset& given, const ReplaySettings& settings) {
  return base::guarded([&]() -> Result<ReplayReport> {
    // A client's query has one thread: it is the clients that are many.
    Options options = given.options();
    options.threads = 1;
    options.progress = nullptr;
    const Dataset dataset = store::dataset_of(
        given.model(), std::shared_ptr<const store::Store>(std::shared_ptr<void>(), &store::loaded_store_of(given)),
        options, store::live_of(given));
    std::vector<regress::RecordedResult> recorded;
    if (settings.log.empty()) {
      for (const std::string& name : names_of(dataset.model().queries())) recorded.emplace_back().query = name;
    } else {
      auto logged = regress::read_logged(dataset.model(), settings.log);
      if (!logged) return tl::unexpected(logged.error());
      recorded = std::move(*logged);
    }
    if (recorded.empty())
      return tl::unexpected(base::error("JR-702", "there is no query to replay", "save one, or name a --log"));
    loading::Variants variants(loading::Placed{dataset, store_path(dataset.model().path(), options)});
    std::vector<Asked> queries;
    std::vector<std::size_t> schedule;
    for (const regress::RecordedResult& query : recorded) {
      const auto variant = variants.with(query.set);
      if (!variant) return tl::unexpected(variant.error());
      auto answer = ask((*variant)->dataset, {query.question()});
      if (!answer) return tl::unexpected(answer.error());
      schedule.insert(schedule.end(), std::max<std::uint64_t>(query.asked, 1), queries.size());
      queries.push_back({query.query, query.question(), (*variant)->dataset, std::move(*answer)});
    }
    ReplayReport report;
    report.clients = std::max(settings.clients, 1U);
    report.queries = queries.size();
    std::vector<Client> clients(report.clients);
    const auto begin = Clock::now();
    const auto end =
        begin + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(settings.seconds));
    {
      std::vector<std::jthread> threads;
      for (unsigned c = 0; c < report.clients; ++c)
        threads.emplace_back([&, c] { run_client(queries, schedule, settings.seed + c, end, clients[c]); });
      for (int left = static_cast<int>(settings.seconds); given.options().progress && left > 0; --left) {
        given.options().progress({fmt::format("replaying with {} clients, {} s left", report.clients, left), 0, 0, 0});
        std::this_thread::sleep_until(std::min(end, Clock::now() + std::chrono::seconds(1)));
      }
    }
    report.seconds = std::chrono::duration<double>(Clock::now() - begin).count();
    std::vector<std::int64_t> times;
    for (const Client& client : clients) {
      times.insert(times.end(), client.times.begin(), client.times.end());
      report.wrong += client.wrong;
      for (const std::string& name : client.wrong_queries) {
        const bool known =
            std::find(report.wrong_queries.begin(), report.wrong_queries.end(), name) != report.wrong_queries.end();
        if (!known && report.wrong_queries.size() < most_named) report.wrong_queries.push_back(name);
      }
    }
    std::sort(times.begin(), times.end());
    report.answers = times.size();
    report.answers_a_second = static_cast<double>(times.size()) / report.seconds;
    report.median_nanoseconds = part_of(times, 0.5);
    report.p99_nanoseconds = part_of(times, 0.99);
    report.most_nanoseconds = part_of(times, 1);
    return report;
  });
}

}  // namespace juniper
