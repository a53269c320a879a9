// Loops over several threads. Plain standard threads: tasks here are milliseconds long, so a pool would gain
// nothing, and the thread sanitizer sees every edge.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <thread>
#include <vector>

namespace juniper::base {

// The number of threads to use for a request of `threads` (0: one per core).
inline unsigned thread_count(unsigned threads) {
  return threads != 0 ? threads : std::max(1U, std::thread::hardware_concurrency());
}

// Calls task(i) for every i in [0, count), on up to `threads` threads. Tasks are handed out in order; they must
// not throw. Returns when all are done.
template <class Task>
void parallel_for(std::size_t count, unsigned threads, const Task& task) {
  const auto workers = static_cast<unsigned>(std::min<std::size_t>(thread_count(threads), count));
  if (workers <= 1) {
    for (std::size_t i = 0; i < count; ++i) task(i);
    return;
  }
  std::atomic<std::size_t> next{0};
  const auto work = [&] {
    for (std::size_t i = next++; i < count; i = next++) task(i);
  };
  std::vector<std::jthread> others;
  others.reserve(workers - 1);
  for (unsigned w = 1; w < workers; ++w) others.emplace_back(work);
  work();
}

// Calls task(begin, end) for ranges that make up [0, count), on up to `threads` threads: for loops of short steps.
template <class Task>
void parallel_ranges(std::size_t count, unsigned threads, const Task& task) {
  constexpr std::size_t part = std::size_t{1} << 16;
  parallel_for((count + part - 1) / part, threads,
               [&](std::size_t p) { task(p * part, std::min(count, (p + 1) * part)); });
}

}  // namespace juniper::base
