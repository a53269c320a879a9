// Loops over several threads, and values that they change together. Plain standard threads: tasks here are milliseconds
// long, so a pool would gain nothing, and the thread sanitizer sees every edge.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <exception>
#include <mutex>
#include <system_error>
#include <thread>
#include <utility>
#include <vector>

namespace juniper::base {

// A value that several threads change, one at a time. A change that throws leaves it half made: from then on no thread
// sees it, however long it takes until the others hear of what was thrown.
template <class Value>
class Guarded {
 public:
  template <class... Arguments>
  explicit Guarded(Arguments&&... arguments) : value_{std::forward<Arguments>(arguments)...} {}

  // Calls change(value) while no other thread does; false, without a call, once a change has thrown.
  template <class Change>
  bool change(const Change& change) {
    const std::lock_guard lock(mutex_);
    if (!whole_) return false;
    whole_ = false;
    change(value_);
    whole_ = true;
    return true;
  }

  // The value, once the threads that changed it have ended.
  Value& alone() { return value_; }

 private:
  std::mutex mutex_;
  bool whole_ = true;
  Value value_;
};

// The number of threads to use for a request of `threads` (0: one per core).
inline unsigned thread_count(unsigned threads) {
  return threads != 0 ? threads : std::max(1U, std::thread::hardware_concurrency());
}

// Runs work(0) on the calling thread and work(1), work(2), … on `workers` - 1 others, or fewer when the system has no
// more threads. Returns when all have ended. What one throws is thrown here, after the others have ended; `stop` is
// called first, so that they can.
template <class Work, class Stop>
void run_together(unsigned workers, const Work& work, const Stop& stop) {
  std::mutex mutex;
  std::exception_ptr thrown;
  const auto safely = [&](unsigned worker) {
    try {
      work(worker);
    } catch (...) {
      const std::lock_guard lock(mutex);
      if (!thrown) thrown = std::current_exception();
      stop();
    }
  };
  {
    std::vector<std::jthread> others;
    try {
      for (unsigned w = 1; w < workers; ++w) others.emplace_back(safely, w);
    } catch (const std::exception&) {
      // The threads that are there do the work of all.
    }
    safely(0);
  }
  if (thrown) std::rethrow_exception(thrown);
}

// Calls task(i) for every i in [0, count), on up to `threads` threads. Tasks are handed out in order. Returns when all
// are done; after a task has thrown, no further ones begin, and it is thrown here.
template <class Task>
void parallel_for(std::size_t count, unsigned threads, const Task& task) {
  const auto workers = static_cast<unsigned>(std::min<std::size_t>(thread_count(threads), count));
  if (workers <= 1) {
    for (std::size_t i = 0; i < count; ++i) task(i);
    return;
  }
  std::atomic<std::size_t> next{0};
  run_together(
      workers,
      [&](unsigned) {
        for (std::size_t i = next++; i < count; i = next++) task(i);
      },
      [&] { next = count; });
}

// The same for short tasks, some of which are handed out together: few of them are not worth a thread.
template <class Task>
void parallel_short(std::size_t count, unsigned threads, const Task& task) {
  constexpr std::size_t together = 16;
  parallel_for((count + together - 1) / together, threads, [&](std::size_t part) {
    for (std::size_t i = part * together; i < std::min(count, (part + 1) * together); ++i) task(i);
  });
}

// Calls task(begin, end) for ranges that make up [0, count), on up to `threads` threads: for loops of short steps.
template <class Task>
void parallel_ranges(std::size_t count, unsigned threads, const Task& task) {
  constexpr std::size_t part = std::size_t{1} << 16;
  parallel_for((count + part - 1) / part, threads,
               [&](std::size_t p) { task(p * part, std::min(count, (p + 1) * part)); });
}

}  // namespace juniper::base
