#include "juniper/speed.h"

#include <sys/resource.h>

#include <algorithm>
#include <boost/math/distributions/students_t.hpp>
#include <chrono>
#include <cmath>
#include <limits>
#include <random>
#include <utility>
#include <vector>

namespace juniper {

namespace {

using Clock = std::chrono::steady_clock;
using Times = std::vector<std::int64_t>;

// Whether other work took a processor from a run; of one that took place elsewhere, the system tells nothing.
enum class Disturbance : std::uint8_t { unknown, none, taken };

// One run: how long it took, and what the system tells of it.
struct Run {
  std::int64_t nanoseconds = 0;
  std::int64_t processor_nanoseconds = 0;  // of all threads
  Disturbance disturbance = Disturbance::unknown;
};

struct Usage {
  std::int64_t processor_nanoseconds = 0;
  std::int64_t taken_away = 0;  // how often a thread had to leave a processor though it had work
};

Usage usage() {
  rusage used{};
  if (::getrusage(RUSAGE_SELF, &used) != 0) return {};
  const auto nanoseconds = [](const timeval& time) { return time.tv_sec * 1'000'000'000LL + time.tv_usec * 1'000LL; };
  return {nanoseconds(used.ru_utime) + nanoseconds(used.ru_stime), used.ru_nivcsw};
}

constexpr std::size_t resamples = 2000;
// Of so many pairs on, medians and their bootstrap are used; before, the spread of so few has to be helped out.
constexpr std::size_t many_pairs = 15;
// How far the ratio of two runs of the same is commonly off on a machine with other work, as a standard deviation of its
// logarithm; and how many further pairs that is worth.
constexpr double common_noise = 0.05;
constexpr double common_pairs = 10;
// How much of the time that other work commonly takes still counts where the system saw none.
constexpr double unseen_wait = 0.25;
// A verdict that is in reach may take so many times the budget.
constexpr double most_budgets = 2;

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

class Pairs {
 public:
  explicit Pairs(const SpeedSettings& settings) : settings_(settings), random_(settings.seed) {}

  std::size_t size() const { return base_.size(); }
  bool base_goes_first() { return random_() % 2 == 0; }
  void add(const std::pair<Run, Run>& base_and_candidate) {
    const auto& [base, candidate] = base_and_candidate;
    base_.push_back(base.nanoseconds);
    candidate_.push_back(candidate.nanoseconds);
    base_processor_.push_back(base.processor_nanoseconds);
    candidate_processor_.push_back(candidate.processor_nanoseconds);
    worst_.push_back(std::max(base.disturbance, candidate.disturbance));
  }

  // Of the pairs that nothing disturbed, where there are enough of these; else of all.
  SpeedComparison compare() {
    const auto quiet = static_cast<std::size_t>(std::count(worst_.begin(), worst_.end(), Disturbance::none));
    // Of many pairs, their medians bear more than a few quiet ones do.
    if (quiet == size() || quiet < (size() < many_pairs ? fewest_quiet : many_pairs)) return compare_all();
    Pairs of_quiet(settings_);
    of_quiet.random_ = random_;
    for (std::size_t i = 0; i < size(); ++i) {
      if (worst_[i] != Disturbance::none) continue;
      of_quiet.add({Run{base_[i], base_processor_[i], Disturbance::none},
                    Run{candidate_[i], candidate_processor_[i], Disturbance::none}});
    }
    SpeedComparison comparison = of_quiet.compare_all();
    comparison.runs = size();
    return comparison;
  }

 private:
  static constexpr std::size_t fewest_quiet = 3;

  SpeedComparison compare_all() {
    SpeedComparison comparison;
    comparison.runs = size();
    const double base_median = median(base_);
    const double candidate_median = median(candidate_);
    comparison.base_nanoseconds = static_cast<std::int64_t>(base_median);
    comparison.candidate_nanoseconds = static_cast<std::int64_t>(candidate_median);
    comparison.base_spread = spread(base_);
    comparison.candidate_spread = spread(candidate_);
    comparison.ratio = candidate_median / base_median;
    if (size() >= many_pairs) {
      add_interval_of_medians(comparison);
    } else {
      const bool none = std::all_of(worst_.begin(), worst_.end(), [](Disturbance d) { return d == Disturbance::none; });
      const double wait = static_cast<double>(settings_.wait_nanoseconds) * (none ? unseen_wait : 1) /
                          static_cast<double>(std::min(comparison.base_nanoseconds, comparison.candidate_nanoseconds));
      const Interval interval = interval_of_few(base_, candidate_, wait);
      comparison.ratio = interval.middle;
      comparison.low = interval.low;
      comparison.high = interval.high;
    }
    if (size() >= settings_.fewest_runs) comparison.verdict = verdict_of(comparison);
    return comparison;
  }

  void add_interval_of_medians(SpeedComparison& comparison) {
    std::vector<double> ratios(resamples);
    Times drawn_base(size());
    Times drawn_candidate(size());
    for (double& ratio : ratios) {
      for (std::size_t i = 0; i < size(); ++i) {
        const std::size_t pair = random_() % size();
        drawn_base[i] = base_[pair];
        drawn_candidate[i] = candidate_[pair];
      }
      ratio = median(drawn_candidate) / median(drawn_base);
    }
    std::sort(ratios.begin(), ratios.end());
    const auto outside = static_cast<std::size_t>((1 - settings_.confidence) / 2 * static_cast<double>(resamples));
    comparison.low = ratios[outside];
    comparison.high = ratios[resamples - 1 - outside];
  }

  struct Interval {
    double low = 0;
    double middle = 0;
    double high = 0;
  };

  // `wait`: how much of a run other work may commonly take.
  Interval interval_of_few(const Times& base_times, const Times& candidate_times, double wait) const {
    // The two logarithms of a pair differ by what is asked for and their own noise; their sum has the same noise, and
    // what slows both: it tells of a busy machine, too.
    const double pairs = static_cast<double>(size());
    double mean = 0;
    double mean_sum = 0;
    std::vector<double> differences(size());
    std::vector<double> sums(size());
    for (std::size_t i = 0; i < size(); ++i) {
      const double base = std::log(static_cast<double>(base_times[i]));
      const double candidate = std::log(static_cast<double>(candidate_times[i]));
      differences[i] = candidate - base;
      sums[i] = candidate + base;
      mean += differences[i] / pairs;
      mean_sum += sums[i] / pairs;
    }
    double squares = common_pairs * (common_noise * common_noise + wait * wait);
    for (const double difference : differences) squares += (difference - mean) * (difference - mean);
    for (const double sum : sums) squares += (sum - mean_sum) * (sum - mean_sum);
    const double freedom = common_pairs + 2 * (pairs - 1);
    const double quantile = boost::math::quantile(boost::math::students_t(freedom), 1 - (1 - settings_.confidence) / 2);
    const double half = quantile * std::sqrt(squares / freedom / pairs);
    return {std::exp(mean - half), std::exp(mean), std::exp(mean + half)};
  }

  // Whether the processors' time says so, too. Where other work took a processor away, the clock alone is no witness: it
  // tells what the machine was doing, and several runs of one side may have met it by chance.
  bool processors_confirm(bool slower) const {
    if (std::find(worst_.begin(), worst_.end(), Disturbance::taken) == worst_.end()) return true;
    const Interval interval = interval_of_few(base_processor_, candidate_processor_, 0);
    return slower ? interval.low > 1 : interval.high < 1;
  }

  SpeedVerdict verdict_of(const SpeedComparison& comparison) const {
    const double allowed = settings_.allowed_ratio;
    if (comparison.low > allowed) return processors_confirm(true) ? SpeedVerdict::slower : SpeedVerdict::cannot_tell;
    if (comparison.high < 1 / allowed)
      return processors_confirm(false) ? SpeedVerdict::faster : SpeedVerdict::cannot_tell;
    if (comparison.low >= 1 / allowed && comparison.high <= allowed) return SpeedVerdict::same;
    return SpeedVerdict::cannot_tell;
  }

  const SpeedSettings& settings_;
  std::mt19937_64 random_;
  Times base_;
  Times candidate_;
  Times base_processor_;
  Times candidate_processor_;
  std::vector<Disturbance> worst_;  // of each pair
};

// How many times the pairs that there are it would take until the interval tells, if it goes on narrowing with the root
// of their number around where it is now.
double times_as_many(const SpeedComparison& comparison, double allowed) {
  const double edge = std::log(allowed);
  const double middle = std::abs(std::log(comparison.low) + std::log(comparison.high)) / 2;
  const double half = (std::log(comparison.high) - std::log(comparison.low)) / 2;
  const double room = std::abs(middle - edge);
  return room > 0 ? (half / room) * (half / room) : std::numeric_limits<double>::infinity();
}

}  // namespace

SpeedComparison compare_speed(const std::function<std::int64_t()>& base, const std::function<std::int64_t()>& candidate,
                              const SpeedSettings& settings) {
  const auto begin = Clock::now();
  double run_seconds = 0;
  // Of the clock, or of the runs as they tell it themselves.
  const auto seconds = [&] {
    return std::max(run_seconds, std::chrono::duration<double>(Clock::now() - begin).count());
  };
  // A clock that does not move counts for one nanosecond.
  const auto run = [&](const std::function<std::int64_t()>& once) {
    const Usage before = usage();
    const auto run_begin = Clock::now();
    Run told;
    told.nanoseconds = std::max<std::int64_t>(once(), 1);
    const std::int64_t seen = std::chrono::nanoseconds(Clock::now() - run_begin).count();
    const Usage after = usage();
    run_seconds += static_cast<double>(told.nanoseconds) * 1e-9;
    told.processor_nanoseconds = std::max<std::int64_t>(after.processor_nanoseconds - before.processor_nanoseconds, 1);
    // What the system tells is of a run that took place here just now.
    if (seen >= told.nanoseconds / 2)
      told.disturbance = after.taken_away != before.taken_away ? Disturbance::taken : Disturbance::none;
    return told;
  };
  Pairs pairs(settings);
  const auto run_pair = [&] {
    const bool base_first = pairs.base_goes_first();
    const Run first = run(base_first ? base : candidate);
    const Run second = run(base_first ? candidate : base);
    return base_first ? std::pair(first, second) : std::pair(second, first);
  };
  // A first run of each fills what is kept between runs. It counts where it takes so long that what it fills is a small
  // part of it, and that one run more would be dear.
  const auto first = run_pair();
  if (run_seconds > settings.seconds / 4) pairs.add(first);
  // Where the budget does not hold the usual number, few are looked at as they come.
  const bool has_few = run_seconds * static_cast<double>(settings.least_runs) > settings.seconds;
  double budget = settings.seconds;
  const auto is_spent = [&] {
    return pairs.size() >= settings.most_runs || (pairs.size() >= settings.fewest_runs && seconds() >= budget);
  };
  std::size_t next_look = has_few ? settings.fewest_runs : settings.least_runs;
  while (true) {
    while (pairs.size() < next_look && !is_spent()) pairs.add(run_pair());
    SpeedComparison comparison = pairs.compare();
    if (comparison.verdict != SpeedVerdict::cannot_tell || pairs.size() >= settings.most_runs) return comparison;
    const double spent = seconds();
    if (spent >= budget) {
      const double times = times_as_many(comparison, settings.allowed_ratio);
      if (spent * times > most_budgets * settings.seconds) return comparison;
      budget = most_budgets * settings.seconds;
      next_look = static_cast<std::size_t>(std::ceil(static_cast<double>(pairs.size()) * times)) + 1;
    } else {
      next_look = has_few ? pairs.size() + std::max<std::size_t>(1, pairs.size() / 3) : pairs.size() * 2;
    }
  }
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
