// What the first answer of a process takes more than a later one: every query of engine/network.ridge asked by the
// tool, which starts, opens the store, compares the checksums of what it reads, prints and ends; and asked again and
// again in this process. Files are in the system's cache. usage: bench_first FOLDER SESSIONS PEER REPEATS [QUERY…]
//
// The two take turns: one process, then five answers here, of which the median counts. (PEER is not used.)
#include <fmt/format.h>
#include <malloc.h>

#include <algorithm>
#include <iostream>

#include "juniper/ask.h"
#include "network.h"
#include "run_tool.h"
#include "timing.h"

int main(int count, char** arguments) {
  using namespace juniper;
  using bench::must;
  if (count < 5) {
    std::cerr << "usage: bench_first FOLDER SESSIONS PEER REPEATS [QUERY...]\n";
    return 2;
  }
  constexpr unsigned threads = 2;
  constexpr int later_turns = 5;
  const std::string folder = std::filesystem::absolute(arguments[1]);
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  const std::vector<std::string> chosen(arguments + 5, arguments + count);
  const Dataset dataset = bench::open_network(folder, sessions, threads);
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 2'000'000'000);

  fmt::print("{} sessions, {} threads, {} turns\n\n", sessions, threads, repeats);
  fmt::print("{:18} {:>10} {:>10}   {}\n", "query", "first", "later", "difference: median (least to most)");
  std::vector<double> medians;
  for (const std::string& query : names_of(dataset.model().queries())) {
    if (!chosen.empty() && std::find(chosen.begin(), chosen.end(), query) == chosen.end()) continue;
    const auto answer = [&] { return bench::milliseconds_of([&] { must(ask(dataset, {query})); }); };
    std::vector<double> first;
    std::vector<double> later;
    std::vector<double> differences;
    answer();
    for (int r = 0; r < repeats; ++r) {
      first.push_back(
          bench::run_tool({"--quiet", "--threads", std::to_string(threads), "ask", folder + "/network.ridge", query})
              .milliseconds);
      std::vector<double> turns;
      for (int i = 0; i < later_turns; ++i) turns.push_back(answer());
      later.push_back(bench::median(turns));
      differences.push_back(first.back() - later.back());
    }
    const auto [least, most] = std::minmax_element(differences.begin(), differences.end());
    medians.push_back(bench::median(differences));
    fmt::print("{:18} {:7.1f} ms {:7.1f} ms   {:.1f} ms ({:.1f} to {:.1f})\n", query, bench::median(first),
               bench::median(later), medians.back(), *least, *most);
    std::fflush(stdout);
  }
  if (!medians.empty()) fmt::print("\nlargest median {:.1f} ms\n", *std::max_element(medians.begin(), medians.end()));
  return 0;
}
