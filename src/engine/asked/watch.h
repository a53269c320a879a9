// Keeps an eye on a question while it is answered: whether somebody has called it off, how much memory it takes, how
// far it is.
#pragma once

#include <atomic>
#include <chrono>
#include <cstdint>
#include <string>
#include <thread>

#include "juniper/dataset.h"

namespace juniper::engine {

// Belongs to one question; its functions may be called by all threads that work on it.
class Watch {
 public:
  explicit Watch(const Options& options);

  // Throws a base::Failure: JR-707 if the question was called off, JR-708 if it takes more memory than it may. To be
  // called every millisecond or so.
  void check() const;
  // Tells how many of a table's rows a pass has read, if the question takes more than a second. Does so only where the
  // asking thread calls.
  void report(const std::string& table, std::uint64_t done, std::uint64_t total) const;

 private:
  const Options& options_;
  std::thread::id asking_ = std::this_thread::get_id();
  std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now();
  std::uint64_t memory_at_begin_ = 0;
};

}  // namespace juniper::engine
