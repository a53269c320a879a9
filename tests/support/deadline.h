// Calls off what takes too long: a loop within a loop over all rows of a large table.
#pragma once

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <thread>

namespace juniper::test {

// Sets what `Options::cancelled` holds after the time, unless it is gone by then.
class Deadline {
 public:
  Deadline(std::shared_ptr<std::atomic<bool>> cancelled, std::chrono::milliseconds time)
      : cancelled_(std::move(cancelled)) {
    *cancelled_ = false;
    thread_ = std::thread([this, time] {
      std::unique_lock lock(mutex_);
      if (!over_.wait_for(lock, time, [this] { return done_; })) *cancelled_ = true;
    });
  }
  ~Deadline() {
    {
      const std::lock_guard lock(mutex_);
      done_ = true;
    }
    over_.notify_one();
    thread_.join();
    *cancelled_ = false;
  }
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;

 private:
  std::shared_ptr<std::atomic<bool>> cancelled_;
  std::mutex mutex_;
  std::condition_variable over_;
  bool done_ = false;
  std::thread thread_;
};

}  // namespace juniper::test
