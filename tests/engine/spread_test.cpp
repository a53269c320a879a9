// Variances of reals that lie far from zero and near each other, held against whole numbers: the values are an offset and
// steps of 1/1024, so that what they should give can be computed exactly.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>

#include "random/random_model.h"
#include "support/support.h"

namespace juniper::spread_test {
namespace {

struct Steps {
  int128 count = 0;
  int128 sum = 0;
  int128 squares = 0;

  double variance(bool sample) const {
    const int128 apart = count * squares - sum * sum;
    return static_cast<double>(apart) / static_cast<double>(count * (count - (sample ? 1 : 0))) / (1024.0 * 1024.0);
  }
};

TEST(Spread, KeepsItsDigitsWhereverTheValuesLie) {
  test::Random random(test::test_seed(20261204));
  for (const std::int64_t offset : {0L, 3L, -1'000'000L, 1'000'000'000L, -(1L << 36), 1L << 40}) {
    for (const std::int64_t rows : {2L, 3L, 300L, 9'000L, 140'000L}) {
      if (rows > 10'000 && (test::is_sanitized || offset != 1'000'000'000)) continue;
      const std::size_t apart = std::size_t{1} << test::pick(random, 12);
      std::map<std::int64_t, Steps> groups;
      std::string csv = "g,x\n";
      for (std::int64_t i = 0; i < rows; ++i) {
        const auto step = static_cast<std::int64_t>(test::pick(random, 2 * apart)) - static_cast<std::int64_t>(apart);
        const std::int64_t g = i % 7 == 0 ? 1 : 0;
        for (Steps* const of : {&groups[g], &groups[2]}) {
          of->count += 1;
          of->sum += step;
          of->squares += step * step;
        }
        csv += fmt::format("{},{:.12f}\n", g, static_cast<double>(offset) + static_cast<double>(step) / 1024);
        if (i % 100 == 5) csv += fmt::format("{},\n", g);
      }
      const test::SmallModel model("table t from csv \"t.csv\" { g integer  x real }", {{"t.csv", csv}});
      for (const unsigned threads : {1U, 3U}) {
        SCOPED_TRACE(fmt::format("offset {}, {} rows, {} threads", offset, rows, threads));
        Options options;
        options.threads = threads;
        const auto answer =
            ask(model.open(options),
                {"by t.g show variance(x for t) as v, variance_pop(x for t) as p, stddev(x for t) as s, "
                 "stddev_pop(x + 0 for t) as q total grand"});
        ASSERT_TRUE(answer) << test::messages(answer.error());
        for (std::size_t row = 0; row < answer->rows.size(); ++row) {
          const Steps& exact = groups[answer->rows[row].level != 0 ? 2 : static_cast<int>(*answer->number(row, "t.g"))];
          const auto is_near = [&](const char* column, double expected) {
            EXPECT_NEAR(*answer->number(row, column), expected, 1e-10 * std::abs(expected))
                << column << ", row " << row;
          };
          is_near("p", exact.variance(false));
          is_near("q", std::sqrt(exact.variance(false)));
          if (exact.count < 2) continue;
          is_near("v", exact.variance(true));
          is_near("s", std::sqrt(exact.variance(true)));
        }
      }
    }
  }
}

}  // namespace
}  // namespace juniper::spread_test
