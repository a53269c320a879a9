// The charging network that bench/engine/network.ridge describes, as the engine's benchmarks ask it.
#pragma once

#include <filesystem>
#include <fstream>
#include <sstream>
#include <string>

#include "juniper/dataset.h"
#include "juniper/demo.h"
#include "must.h"

namespace bench {

inline std::string content(const std::string& path) {
  std::ifstream file(path);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

// Opens the network of so many sessions, which is made in `folder` where it is not there. Every byte of its store has
// been read once.
inline juniper::Dataset open_network(const std::string& folder, std::uint64_t sessions, unsigned threads) {
  constexpr std::uint64_t seed = 7;
  if (!std::filesystem::exists(folder + "/data")) must(juniper::write_demo(folder, {sessions, seed}));
  const std::string text = content(BENCH_ENGINE "/network.ridge");
  const std::string path = folder + "/engine.ridge";
  if (!std::filesystem::exists(path) || content(path) != text) std::ofstream(path) << text;
  juniper::Options options;
  options.threads = threads;
  juniper::Dataset dataset = must(juniper::Dataset::open(path, options));
  must(juniper::verify(folder + "/engine.jrs", options));
  return dataset;
}

}  // namespace bench
