#include "side_by_side.h"

#include <fmt/format.h>
#include <malloc.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <nlohmann/json.hpp>
#include <numeric>
#include <optional>
#include <thread>

#include "juniper/ask.h"
#include "juniper/explain.h"
#include "must.h"
#include "timing.h"

namespace bench {

using namespace juniper;

namespace {

using Cell = std::optional<std::string>;
using Rows = std::vector<std::vector<Cell>>;

Rows rows_of(const QueryResult& result) {
  Rows rows;
  for (const ResultRow& row : result.rows) {
    auto& cells = rows.emplace_back();
    for (std::size_t i = 0; i < row.cells.size(); ++i) {
      cells.push_back(row.cells[i].is_null() ? std::nullopt
                                             : std::optional(to_text(row.cells[i], result.columns[i].type)));
    }
  }
  return rows;
}

std::optional<double> number(const std::string& text) {
  double value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  return error == std::errc() && end == text.data() + text.size() ? std::optional(value) : std::nullopt;
}

bool same(const Cell& a, const Cell& b) {
  if (!a || !b) return !a && !b;
  if (*a == *b) return true;
  const auto x = number(*a);
  const auto y = number(*b);
  return x && y && std::abs(*x - *y) <= 1e-9 * std::max(std::abs(*x), std::abs(*y));
}

void compare(const std::string& query, const QueryResult& result, Rows theirs) {
  const auto keys = static_cast<std::ptrdiff_t>(
      std::count_if(result.columns.begin(), result.columns.end(), [](const auto& c) { return c.is_key; }));
  Rows ours = rows_of(result);
  const auto by_keys = [&](const auto& a, const auto& b) {
    return std::lexicographical_compare(a.begin(), a.begin() + keys, b.begin(), b.begin() + keys);
  };
  std::sort(ours.begin(), ours.end(), by_keys);
  std::sort(theirs.begin(), theirs.end(), by_keys);
  const auto shown = [](const std::vector<Cell>& row) {
    std::string text;
    for (const Cell& cell : row) text += cell.value_or("null") + " | ";
    return text;
  };
  for (std::size_t r = 0; r < std::max(ours.size(), theirs.size()); ++r) {
    if (r < std::min(ours.size(), theirs.size()) &&
        std::equal(ours[r].begin(), ours[r].end(), theirs[r].begin(), theirs[r].end(), same))
      continue;
    std::cerr << fmt::format("{} differs ({} rows here, {} there)\n  here   {}\n  there  {}\n", query, ours.size(),
                             theirs.size(), r < ours.size() ? shown(ours[r]) : "",
                             r < theirs.size() ? shown(theirs[r]) : "");
    std::exit(1);
  }
}

// Bytes a second at which all threads together read an array much larger than the caches.
double read_bandwidth(unsigned threads) {
  static const std::vector<std::uint64_t> words(std::size_t{1} << 26, 1);  // 512 MiB
  std::vector<std::uint64_t> sums(threads);
  const double ms = milliseconds_of([&] {
    std::vector<std::jthread> workers;
    for (unsigned t = 0; t < threads; ++t) {
      workers.emplace_back([&, t] {
        const auto part = static_cast<std::ptrdiff_t>(words.size() / threads);
        const auto begin = words.begin() + part * t;
        sums[t] = std::accumulate(begin, begin + part, std::uint64_t{0});
      });
    }
  });
  if (std::accumulate(sums.begin(), sums.end(), std::uint64_t{0}) != words.size()) std::exit(3);
  return static_cast<double>(words.size() * sizeof(std::uint64_t)) / (ms / 1000);
}

// Bytes of this process beside what is mapped from files: now, or the most since `forget_peak`.
std::uint64_t memory(const std::string& which) {
  std::uint64_t all = 0;
  std::uint64_t file = 0;
  std::ifstream status("/proc/self/status");
  for (std::string line; std::getline(status, line);) {
    const auto value = [&] { return std::stoull(line.substr(line.find_first_of("0123456789"))) * 1024; };
    if (line.starts_with(which)) all = value();
    if (line.starts_with("RssFile:")) file = value();
  }
  return all - std::min(all, file);
}
void forget_peak() {
  std::ofstream("/proc/self/clear_refs") << 5;
}

// What a hand-written kernel tells of an answer: the sum of its column `energy` in thousandths, or its one count.
std::int64_t told_by_hand(const QueryResult& answer) {
  std::size_t column = 0;
  while (column + 1 < answer.columns.size() && answer.columns[column].name != "energy") ++column;
  int128 sum = 0;
  for (const ResultRow& row : answer.rows) sum += row.cells[column].exact();
  return static_cast<std::int64_t>(sum);
}

struct Measured {
  std::string query;
  std::string title;
  Ratio times;    // ours and theirs
  Ratio at_once;  // those of the answers right behind the other's turn
  std::function<std::int64_t()> by_hand;
  std::vector<double> by_hand_ms;  // empty where there is no such kernel
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;
  std::uint64_t memory = 0;
};

}  // namespace

std::map<std::string, std::string> read_statements(const std::string& path) {
  std::map<std::string, std::string> statements;
  std::ifstream lines(path);
  std::string name;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("-- ") && line.find(' ', 3) == std::string::npos) {
      name = line.substr(3);
    } else if (!name.empty() && !line.empty()) {
      statements[name] += line + "\n";
    }
  }
  return statements;
}

void fill(Peer& peer, const std::string& folder, const std::string& kept, const std::vector<PeerTable>& tables) {
  const std::string file = folder + "/" + kept;
  const bool known = std::filesystem::exists(file);
  peer.run(fmt::format("attach '{}' as kept", file));
  for (const PeerTable& table : tables) {
    if (!known) {
      peer.run(fmt::format(
          "create table kept.{} as select * from read_csv('{}/data/{}.csv', header = true, columns = {{{}}})",
          table.name, folder, table.files, table.columns));
    }
    peer.run(fmt::format("create table {0} as select * from kept.{0}", table.name));
  }
  peer.run("detach kept");
}

void run_side_by_side(const Dataset& dataset, Peer& peer, const std::map<std::string, std::string>& statements,
                      const SideBySide& settings) {
  const unsigned threads = settings.threads;
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 2'000'000'000);
  std::vector<Measured> measured;
  for (const std::string& query : names_of(dataset.model().queries())) {
    if (!settings.chosen.empty() &&
        std::find(settings.chosen.begin(), settings.chosen.end(), query) == settings.chosen.end())
      continue;
    Measured m;
    m.query = query;
    malloc_trim(0);
    forget_peak();
    const std::uint64_t before = memory("VmRSS:");
    const QueryResult answer = must(ask(dataset, {query}));
    m.memory = memory("VmHWM:") - before;
    m.title = answer.title;
    compare(query, answer, peer.rows(statements.at(query)).rows);
    const ExplainStep whole = must(explain(dataset, {query})).steps.front();
    m.bytes = whole.bytes;
    m.rows = whole.rows_in;
    if (const auto kernel = settings.by_hand.find(query); kernel != settings.by_hand.end()) {
      m.by_hand = kernel->second;
      if (m.by_hand() != told_by_hand(answer)) {
        std::cerr << query << " differs from what is computed by hand\n";
        std::exit(1);
      }
    }
    measured.push_back(std::move(m));
  }
  std::vector<double> bandwidths;
  for (int r = 0; r < settings.repeats; ++r) {
    bandwidths.push_back(read_bandwidth(threads));
    for (Measured& m : measured) {
      const auto ours = [&] { return milliseconds_of([&] { must(ask(dataset, {m.query})); }); };
      const auto theirs = [&] { return static_cast<double>(peer.run(statements.at(m.query))) / 1e6; };
      m.at_once.ours.push_back(ours());
      m.times.ours.push_back(ours());
      if (m.by_hand) m.by_hand_ms.push_back(milliseconds_of([&] { m.by_hand(); }));
      m.at_once.theirs.push_back(theirs());
      m.times.theirs.push_back(theirs());
    }
  }

  const double bandwidth = median(bandwidths);
  fmt::print("{}, {} threads, medians of {} turns; memory is read at {:.1f} GB/s\n\n", settings.over, threads,
             settings.repeats, bandwidth / 1e9);
  fmt::print("{:18} {:>10} {:>10}  {:>5} {:>15} {:>7} {:>9} {:>9} {:>6} {:>8}\n", "query", "ours ms", "peer ms",
             "times", "least to most", "at once", "M rows/s", "MB read", "GB/s", "peak MB");
  nlohmann::ordered_json json = {{"over", settings.over}, {"threads", threads}, {"turns", settings.repeats}};
  json["read_gb_per_s"] = bandwidth / 1e9;
  double product = 0;
  double product_at_once = 0;
  const auto ratios_of = [](const Ratio& times) {
    std::vector<double> ratios;
    for (std::size_t i = 0; i < times.ours.size(); ++i) ratios.push_back(times.theirs[i] / times.ours[i]);
    return ratios;
  };
  for (const Measured& m : measured) {
    const std::vector<double> ratios = ratios_of(m.times);
    const double at_once = median(ratios_of(m.at_once));
    product_at_once += std::log(at_once);
    const auto [least, most] = std::minmax_element(ratios.begin(), ratios.end());
    const double ours = median(m.times.ours);
    const double ratio = median(ratios);
    product += std::log(ratio);
    const double rows_per_s = static_cast<double>(m.rows) / (ours / 1000);
    const double bytes_per_s = static_cast<double>(m.bytes) / (ours / 1000);
    fmt::print("{:18} {:10.2f} {:10.2f}  {:5.1f} {:>15} {:7.1f} {:9.1f} {:9.1f} {:6.2f} {:8.0f}\n", m.query, ours,
               median(m.times.theirs), ratio, fmt::format("{:.1f} to {:.1f}", *least, *most), at_once, rows_per_s / 1e6,
               static_cast<double>(m.bytes) / 1e6, bytes_per_s / 1e9, static_cast<double>(m.memory) / 1e6);
    json["queries"].push_back({{"query", m.query},
                               {"title", m.title},
                               {"ours_ms", ours},
                               {"peer_ms", median(m.times.theirs)},
                               {"times_as_fast", ratio},
                               {"at_once", at_once},
                               {"least", *least},
                               {"most", *most},
                               {"rows", m.rows},
                               {"rows_per_s", rows_per_s},
                               {"encoded_bytes", m.bytes},
                               {"gb_per_s", bytes_per_s / 1e9},
                               {"peak_memory_bytes", m.memory}});
  }
  if (!settings.by_hand.empty())
    fmt::print("\n{:18} {:>10} {:>10}  {:>5}\n", "query", "ours ms", "by hand ms", "ratio (least to most)");
  for (const Measured& m : measured) {
    if (m.by_hand_ms.empty()) continue;
    const Ratio beside{m.times.ours, m.by_hand_ms};
    fmt::print("{:18} {}\n", m.query, beside.text());
    for (auto& query : json["queries"]) {
      if (query["query"] == m.query) query["by_hand_ms"] = median(m.by_hand_ms);
    }
  }
  const double mean = std::exp(product / static_cast<double>(measured.size()));
  json["geometric_mean"] = mean;
  const double mean_at_once = std::exp(product_at_once / static_cast<double>(measured.size()));
  json["geometric_mean_at_once"] = mean_at_once;
  fmt::print("\ngeometric mean: {:.2f} times as fast as the peer; {:.2f} right behind the other's turn\n", mean,
             mean_at_once);
  if (!settings.figures.empty()) std::ofstream(settings.figures) << json.dump(2) << "\n";
}

}  // namespace bench
