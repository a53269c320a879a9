// The charging network that bench/engine/network.ridge describes, as the engine's benchmarks ask it.
#pragma once

#include <filesystem>
#include <string>

#include "juniper/demo.h"
#include "open_model.h"

namespace bench {

// Opens the network of so many sessions, which is made in `folder` where it is not there.
inline juniper::Dataset open_network(const std::string& folder, std::uint64_t sessions, unsigned threads) {
  constexpr std::uint64_t seed = 7;
  if (!std::filesystem::exists(folder + "/data")) must(juniper::write_demo(folder, {sessions, seed}));
  return open_model(BENCH_ENGINE "/network.ridge", folder, threads);
}

}  // namespace bench
