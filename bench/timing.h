// What the benchmarks share: times of turns, and the ratio of two that were taken in turn.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <functional>
#include <string>
#include <vector>

namespace bench {

inline double median(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  const std::size_t half = values.size() / 2;
  return values.size() % 2 == 1 ? values[half] : (values[half - 1] + values[half]) / 2;
}

inline double milliseconds_of(const std::function<void()>& work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begin).count();
}

// Two measures taken in turn.
struct Ratio {
  std::vector<double> ours;
  std::vector<double> theirs;

  // "  558 ms     5298 ms   0.11 (0.09 to 0.16)": medians, and the ratios of the turns, median, least and most.
  std::string text() const {
    std::vector<double> ratios;
    for (std::size_t i = 0; i < ours.size(); ++i) ratios.push_back(ours[i] / theirs[i]);
    const auto [least, most] = std::minmax_element(ratios.begin(), ratios.end());
    return fmt::format("{:8.0f} ms {:8.0f} ms   {:.2f} ({:.2f} to {:.2f})", median(ours), median(theirs),
                       median(ratios), *least, *most);
  }
};

}  // namespace bench
