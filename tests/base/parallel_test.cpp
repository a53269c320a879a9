// Loops over threads, and what they change together.
#include "base/parallel.h"

#include <gtest/gtest.h>

#include <chrono>
#include <stdexcept>

namespace juniper::parallel_test {
namespace {

using namespace std::chrono_literals;

TEST(Guarded, ShowsToNobodyWhatAChangeLeftHalfMade) {
  base::Guarded<std::vector<int>> numbers;
  EXPECT_TRUE(numbers.change([](std::vector<int>& all) { all.push_back(1); }));
  EXPECT_THROW(numbers.change([](std::vector<int>& all) {
    all.push_back(2);
    throw std::runtime_error("half made");
  }),
               std::runtime_error);
  EXPECT_FALSE(numbers.change([](std::vector<int>&) { FAIL() << "seen"; }));
  EXPECT_EQ(numbers.alone().size(), 2U);
}

// However long the thread that failed takes to say so, no other one goes on with what it left.
TEST(Guarded, HoldsWhileWhatWasThrownIsOnItsWay) {
  struct Half {
    bool is_made = true;
  };
  struct SlowToGo {
    ~SlowToGo() { std::this_thread::sleep_for(20ms); }
  };
  for (int round = 0; round < 5; ++round) {
    base::Guarded<Half> half;
    std::atomic<int> seen_half_made{0};
    const auto work = [&](unsigned worker) {
      const SlowToGo slow;
      bool more = true;
      for (int i = 0; more && i < 1000; ++i) {
        more = half.change([&](Half& value) {
          if (!value.is_made) ++seen_half_made;
          value.is_made = false;
          if (worker == 1 && i == 10) throw std::runtime_error("half made");
          value.is_made = true;
        });
        std::this_thread::yield();
      }
    };
    EXPECT_THROW(base::run_together(3, work, [] {}), std::runtime_error);
    EXPECT_EQ(seen_half_made, 0);
  }
}

}  // namespace
}  // namespace juniper::parallel_test
