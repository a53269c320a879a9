#include "juniper/speed.h"

#include <algorithm>
#include <chrono>
#include <random>
#include <vector>

namespace juniper {

namespace {

using Clock = std::chrono::steady_clock;
using Times = std::vector<std::int64_t>;

constexpr std::size_t resamples = 2000;
constexpr std::size_t fewest_runs =
    8;  // that an interval says anything of, where the budget is spent before the first look

double median(Times times) {
  const auto half = static_cast<std::ptrdiff_t>(times.size() / 2);
  std::nth_element(times.begin(), times.begin() + half, times.end());
  const double upper = static_cast<double>(times[static_cast<std::size_t>(half)]);
  if (times.size() % 2 == 1) return upper;
  return (upper + static_cast<double>(*std::max_element(times.begin(), times.begin() + half))) / 2;
}

std::int64_t spread(Times times) {
  std::sort(times.begin(), times.end());
  return times[times.size() * 3 / 4] - times[times.size() / 4];
}

// The interval of the ratio of medians, and the ratio.
void add_interval(const Times& base, const Times& candidate, double confidence, std::mt19937_64& random,
                  SpeedComparison& made) {
  made.runs = base.size();
  const double base_median = median(base);
  const double candidate_median = median(candidate);
  made.base_nanoseconds = static_cast<std::int64_t>(base_median);
  made.candidate_nanoseconds = static_cast<std::int64_t>(candidate_median);
  made.ratio = candidate_median / base_median;
  std::vector<double> ratios(resamples);
  Times drawn_base(base.size());
  Times drawn_candidate(base.size());
  for (double& ratio : ratios) {
    for (std::size_t i = 0; i < base.size(); ++i) {
      const std::size_t pair = random() % base.size();
      drawn_base[i] = base[pair];
      drawn_candidate[i] = candidate[pair];
    }
    ratio = median(drawn_candidate) / median(drawn_base);
  }
  std::sort(ratios.begin(), ratios.end());
  const auto outside = static_cast<std::size_t>((1 - confidence) / 2 * static_cast<double>(resamples));
  made.low = ratios[outside];
  made.high = ratios[resamples - 1 - outside];
}

SpeedVerdict verdict_of(const SpeedComparison& made, double allowed) {
  if (made.low > allowed) return SpeedVerdict::slower;
  if (made.high < 1 / allowed) return SpeedVerdict::faster;
  if (made.low >= 1 / allowed && made.high <= allowed) return SpeedVerdict::same;
  return SpeedVerdict::cannot_tell;
}

}  // namespace

SpeedComparison compare_speed(const std::function<std::int64_t()>& base, const std::function<std::int64_t()>& candidate,
                              const SpeedSettings& settings) {
  const auto begin = Clock::now();
  const auto seconds = [&] { return std::chrono::duration<double>(Clock::now() - begin).count(); };
  std::mt19937_64 random(settings.seed);
  Times base_times;
  Times candidate_times;
  SpeedComparison made;
  // A first run of each fills what is kept between runs.
  base();
  candidate();
  for (std::uint64_t next_look = settings.least_runs;;) {
    // A clock that does not move counts for one nanosecond.
    const auto run = [](const std::function<std::int64_t()>& once) { return std::max<std::int64_t>(once(), 1); };
    if (random() % 2 == 0) {
      base_times.push_back(run(base));
      candidate_times.push_back(run(candidate));
    } else {
      candidate_times.push_back(run(candidate));
      base_times.push_back(run(base));
    }
    const bool last = base_times.size() >= settings.most_runs || seconds() >= settings.seconds;
    if (base_times.size() < next_look && !last) continue;
    next_look *= 2;
    add_interval(base_times, candidate_times, settings.confidence, random, made);
    if (base_times.size() >= fewest_runs) made.verdict = verdict_of(made, settings.allowed_ratio);
    if (last || made.verdict != SpeedVerdict::cannot_tell) break;
  }
  made.base_spread = spread(base_times);
  made.candidate_spread = spread(candidate_times);
  return made;
}

std::string to_string(SpeedVerdict verdict) {
  switch (verdict) {
    case SpeedVerdict::faster:
      return "faster";
    case SpeedVerdict::same:
      return "same";
    case SpeedVerdict::slower:
      return "slower";
    case SpeedVerdict::cannot_tell:
      break;
  }
  return "can't tell";
}

}  // namespace juniper
