// Which of two ways to an answer is faster, told apart from noise.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

namespace [[gnu::visibility("default")]] juniper {

struct SpeedSettings {
  double allowed_ratio = 1.1;     // of the candidate's median to the base's: more than this, with confidence, is slower
  double confidence = 0.999;      // of the interval of the ratio
  double seconds = 2;             // the budget of one comparison; twice that where a verdict is in reach
  std::uint64_t least_runs = 15;  // before the first look, where the budget holds so many
  std::uint64_t fewest_runs = 3;  // however long they take
  std::uint64_t most_runs = 2000;
  std::uint64_t seed = 1;                      // of the order of the runs and of the bootstrap
  std::int64_t wait_nanoseconds = 10'000'000;  // for which other work commonly takes a processor
};

enum class SpeedVerdict : std::uint8_t { faster, same, slower, cannot_tell };

struct SpeedComparison {
  SpeedVerdict verdict = SpeedVerdict::cannot_tell;
  std::int64_t base_nanoseconds = 0;  // medians
  std::int64_t candidate_nanoseconds = 0;
  double ratio = 1;  // of the medians, candidate to base; of fewer than 15 pairs, the mean of their ratios
  double low = 0;    // the interval of the ratio
  double high = 0;
  std::int64_t base_spread = 0;  // from the first to the third quartile
  std::int64_t candidate_spread = 0;
  std::uint64_t runs = 0;  // of each
};

// Runs both in turn, the order within each pair drawn at random, until the interval of the ratio tells: it lies above
// the allowed ratio (slower), below its inverse (faster), or between the two (same); or until the budget is spent. Three
// pairs (`fewest_runs`) are run however long they take. Where the budget is spent and the interval would tell with more
// pairs than twice the budget holds, it ends: it can't be told. Each call runs once and gives its nanoseconds; the budget
// is counted by the clock, or by what the calls give, whichever is more.
//
// Of 15 pairs and more, the interval is the percentile bootstrap of the ratio of medians over pairs (B. Efron,
// Bootstrap methods: another look at the jackknife, Annals of Statistics 7, 1979): pairs are drawn with their two times
// together, so that what slows the machine for a while slows both. It is looked at after 15, 30, 60, … pairs, few times,
// so that looking often does not find what is not there.
//
// Of fewer pairs, where 15 would not fit the budget, it is Student's interval of the mean of the logarithms of their
// ratios, and `ratio` is the geometric mean. Three pairs can be close by chance, which would make the interval too
// narrow: so their variance is joined with that of ten pairs of common noise, 5% of a run and `wait_nanoseconds` (G. Smyth, Linear
// models and empirical Bayes methods for assessing differential expression in microarray experiments, Statistical
// Applications in Genetics and Molecular Biology 3, 2004). It is looked at after 3, 4, 5, 6, 8, 10, 13 pairs.
//
// Runs from which other work took a processor away (involuntary context switches, getrusage) are left out where at least
// three pairs are without, of 15 pairs and more 15; of such pairs, a quarter of `wait_nanoseconds` counts. Where there are
// fewer, the clock is not believed alone: slower and faster are said only if the processors' time, by the interval of few pairs, says so, too.
SpeedComparison compare_speed(const std::function<std::int64_t()>& base, const std::function<std::int64_t()>& candidate,
                              const SpeedSettings& settings = {});

// "faster", "same", "slower", "can't tell"
std::string to_string(SpeedVerdict verdict);

}  // namespace juniper
