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
  const auto once = [&] { return ++runs % 2 == 0 ? std::int64_t{100} : std::int64_t{300}; };
  const SpeedComparison made = compare_speed(once, once, settings);
  EXPECT_EQ(made.verdict, SpeedVerdict::cannot_tell);
  EXPECT_EQ(made.runs, 4U);
  EXPECT_EQ(runs, 10) << "and one of each to begin with";
  EXPECT_EQ(to_string(made.verdict), "can't tell");
}

}  // namespace
}  // namespace juniper::speed_test
