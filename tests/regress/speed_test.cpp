// The comparison of times, fed with times that are made up: noise of several kinds and differences that are known.
#include "juniper/speed.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <random>

#include "support/support.h"

namespace juniper::speed_test {
namespace {

// Under the sanitizers, which slow the bootstrap, a part will do: the rates are held where nothing is slowed.
constexpr std::uint64_t comparisons = test::is_sanitized ? 20 : 200;

// A machine on which a query takes about a millisecond: normal noise, now and then an interruption, and stretches in
// which everything is slower.
class Machine {
 public:
  explicit Machine(std::uint64_t seed) : random_(seed) {}
  std::int64_t run(double factor) {
    if (left_ == 0) {
      left_ = 5 + static_cast<int>(random_() % 60);
      slow_ = random_() % 3 == 0 ? 1.5 + static_cast<double>(random_() % 100) / 100 : 1;
    }
    --left_;
    double time = 1e6 * factor * slow_ * std::exp(0.08 * normal_(random_));
    if (random_() % 15 == 0) time += 2e6 * static_cast<double>(random_() % 100) / 100;
    return static_cast<std::int64_t>(time);
  }

 private:
  std::mt19937_64 random_;
  std::normal_distribution<double> normal_;
  int left_ = 0;
  double slow_ = 1;
};

// Queries that take so long that the budget holds few pairs of runs, on a machine that is quiet, or busy: by how much
// each run is off, and everything for a while.
class LongRuns {
 public:
  LongRuns(std::uint64_t seed, double milliseconds, double noise) : random_(seed), time_(milliseconds), noise_(noise) {}
  std::int64_t run(double factor) {
    if (random_() % 7 == 0) slow_ = std::exp(2 * noise_ * std::abs(normal_(random_)));
    const double milliseconds = time_ * factor * slow_ * std::exp(noise_ * normal_(random_));
    spent_ += milliseconds / 1000;
    return static_cast<std::int64_t>(milliseconds * 1e6);
  }
  double seconds() const { return spent_; }

 private:
  std::mt19937_64 random_;
  std::normal_distribution<double> normal_;
  double time_;
  double noise_;
  double slow_ = 1;
  double spent_ = 0;
};

SpeedComparison compared(std::uint64_t seed, double factor) {
  Machine machine(seed);
  SpeedSettings settings;
  settings.seconds = 60;  // made up, they take no time
  settings.most_runs = 1000;
  settings.seed = seed;
  return compare_speed([&] { return machine.run(1); }, [&] { return machine.run(factor); }, settings);
}

TEST(Speed, NoiseRaisesNoAlarm) {
  std::uint64_t unsure = 0;
  for (std::uint64_t i = 0; i < comparisons; ++i) {
    const SpeedComparison made = compared(1000 + i, 1);
    EXPECT_NE(made.verdict, SpeedVerdict::slower) << i << ": " << made.low << " to " << made.high;
    EXPECT_NE(made.verdict, SpeedVerdict::faster) << i << ": " << made.low << " to " << made.high;
    unsure += made.verdict == SpeedVerdict::cannot_tell ? 1 : 0;
  }
  fmt::print("{} of {} can't be told\n", unsure, comparisons);
  EXPECT_LE(unsure, comparisons / 20);
}

TEST(Speed, ThirtyPercentAreFound) {
  std::uint64_t slower = 0;
  std::uint64_t faster = 0;
  for (std::uint64_t i = 0; i < comparisons / 2; ++i) {
    slower += compared(2000 + i, 1.3).verdict == SpeedVerdict::slower ? 1 : 0;
    faster += compared(3000 + i, 1 / 1.3).verdict == SpeedVerdict::faster ? 1 : 0;
  }
  EXPECT_GE(slower, comparisons / 2 * 95 / 100);
  EXPECT_GE(faster, comparisons / 2 * 95 / 100);
}

TEST(Speed, PlantedSlowdownsOfLongRunsAreFound) {
  for (const double milliseconds : {1.0, 100.0, 2000.0}) {
    // 1 ms in 4 seconds are many runs: fewer comparisons will do.
    const std::uint64_t tries = milliseconds < 2 ? comparisons / 10 : comparisons;
    std::uint64_t found = 0;
    for (const double factor : {1.3, 2.0, 10.0}) {
      found = 0;
      for (std::uint64_t i = 0; i < tries; ++i) {
        LongRuns runs(5000 + i, milliseconds, 0.03);
        const auto speed = compare_speed([&] { return runs.run(1); }, [&] { return runs.run(factor); });
        found += speed.verdict == SpeedVerdict::slower ? 1 : 0;
        const double pair = milliseconds / 1000 * (1 + factor);
        EXPECT_LE(runs.seconds(), std::max(4.0, 3 * pair) + 1.2 * pair) << milliseconds << " ms, times " << factor;
      }
      EXPECT_GE(found, factor == 10  ? tries
                       : factor == 2 ? tries * 99 / 100
                                     : tries * 95 / 100)
          << milliseconds << " ms, times " << factor;
    }
  }
}

TEST(Speed, LongRunsUnderLoadRaiseNoAlarm) {
  for (const double milliseconds : {100.0, 2000.0}) {
    for (std::uint64_t i = 0; i < test::test_count(200); ++i) {
      LongRuns runs(6000 + i, milliseconds, 0.1);
      const auto speed = compare_speed([&] { return runs.run(1); }, [&] { return runs.run(1); });
      EXPECT_NE(speed.verdict, SpeedVerdict::slower) << i << ": " << speed.low << " to " << speed.high;
      EXPECT_NE(speed.verdict, SpeedVerdict::faster) << i << ": " << speed.low << " to " << speed.high;
    }
  }
}

TEST(Speed, TheIntervalHoldsTheRatio) {
  std::uint64_t inside = 0;
  for (std::uint64_t i = 0; i < comparisons; ++i) {
    const double factor = 0.7 + static_cast<double>(i) / static_cast<double>(comparisons);
    const SpeedComparison made = compared(4000 + i, factor);
    inside += made.low <= factor && factor <= made.high ? 1 : 0;
    EXPECT_LE(made.low, made.ratio);
    EXPECT_GE(made.high, made.ratio);
  }
  EXPECT_GE(inside, comparisons * 95 / 100);
}

TEST(Speed, ABudgetThatIsSpentIsToldAndNotGuessed) {
  SpeedSettings settings;
  settings.most_runs = 4;
  int runs = 0;
  const auto once = [&] { return ++runs % 4 < 2 ? std::int64_t{100} : std::int64_t{300}; };
  const SpeedComparison made = compare_speed(
      once, [&] { return ++runs, std::int64_t{200}; }, settings);
  EXPECT_EQ(made.verdict, SpeedVerdict::cannot_tell);
  EXPECT_EQ(made.runs, 4U);
  EXPECT_EQ(runs, 10) << "and one of each to begin with";
  EXPECT_EQ(to_string(made.verdict), "can't tell");
}

}  // namespace
}  // namespace juniper::speed_test
