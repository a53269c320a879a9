// What ten times the rows take: every query of engine/network.ridge over a network, and over a tenth of it.
// usage: bench_growth FOLDER SESSIONS PEER REPEATS [QUERY…]
//
// FOLDER is named by its number of sessions, as is the smaller network's beside it. The two take turns: ten answers of
// the smaller, of which the median counts, beside one of the larger. (PEER, which other benchmarks need, is not used.)
#include <fmt/format.h>
#include <malloc.h>

#include <algorithm>
#include <filesystem>
#include <iostream>

#include "juniper/ask.h"
#include "network.h"
#include "timing.h"

int main(int count, char** arguments) {
  using namespace juniper;
  using bench::must;
  if (count < 5) {
    std::cerr << "usage: bench_growth FOLDER SESSIONS PEER REPEATS [QUERY...]\n";
    return 2;
  }
  constexpr unsigned threads = 2;
  constexpr int small_turns = 10;
  const std::filesystem::path folder = std::filesystem::absolute(arguments[1]);
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  const std::vector<std::string> chosen(arguments + 5, arguments + count);
  const Dataset large = bench::open_network(folder, sessions, threads);
  const std::string beside = folder.parent_path() / fmt::format("network-{}", sessions / 10);
  const Dataset small = bench::open_network(beside, sessions / 10, threads);
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 2'000'000'000);

  fmt::print("{} and {} sessions, {} threads, medians of {} turns\n\n", sessions, sessions / 10, threads, repeats);
  fmt::print("{:18} {:>11} {:>11}   {}\n", "query", "large", "small", "ratio (least to most)");
  for (const std::string& query : names_of(large.model().queries())) {
    if (!chosen.empty() && std::find(chosen.begin(), chosen.end(), query) == chosen.end()) continue;
    const auto time = [&](const Dataset& dataset) {
      return bench::milliseconds_of([&] { must(ask(dataset, {query})); });
    };
    bench::Ratio times;
    time(large);
    for (int r = 0; r < repeats; ++r) {
      std::vector<double> of_small;
      for (int i = 0; i < small_turns; ++i) of_small.push_back(time(small));
      times.theirs.push_back(bench::median(of_small));
      times.ours.push_back(time(large));
    }
    fmt::print("{:18} {}\n", query, times.text());
    std::fflush(stdout);
  }
  return 0;
}
