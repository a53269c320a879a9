// A service in small: a model is opened once, and asked by several threads at a time. Each question may take so much
// memory and no more, and those that take too long for anybody to wait are called off.
//
// usage: example_ask_together MODEL
#include <juniper/ask.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <iostream>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

namespace {

// Calls the questions off when its time is over, unless it goes before.
class Deadline {
 public:
  Deadline(std::shared_ptr<std::atomic<bool>> cancelled, std::chrono::milliseconds time)
      : thread_([this, cancelled = std::move(cancelled), time] {
          std::unique_lock lock(mutex_);
          if (!gone_.wait_for(lock, time, [this] { return is_over_; })) cancelled->store(true);
        }) {}
  ~Deadline() {
    {
      const std::lock_guard lock(mutex_);
      is_over_ = true;
    }
    gone_.notify_one();
    thread_.join();
  }
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;

 private:
  std::mutex mutex_;
  std::condition_variable gone_;
  bool is_over_ = false;
  std::thread thread_;
};

}  // namespace

int main(int count, char** words) {
  if (count != 2) {
    std::cerr << "usage: " << words[0] << " MODEL\n";
    return 2;
  }
  const auto cancelled = std::make_shared<std::atomic<bool>>(false);
  juniper::Options options;
  options.threads = 1;           // of each question: the questions are many
  options.memory = 500'000'000;  // beyond it a question ends with JR-708
  options.cancelled = cancelled;
  const auto dataset = juniper::Dataset::open(words[1], options);
  if (!dataset) {
    std::cerr << juniper::render(dataset.error());
    return 3;
  }

  // Whoever asks needs a name of a measure; the model tells which there are.
  std::vector<juniper::MeasureInfo> measures = dataset->model().measures();
  std::erase_if(measures, [](const juniper::MeasureInfo& measure) { return measure.is_hidden; });
  std::vector<std::string> answers(measures.size());
  {
    const Deadline deadline(cancelled, std::chrono::seconds(30));
    std::atomic<std::size_t> next = 0;
    std::vector<std::thread> clients;
    for (int client = 0; client < 4; ++client) {
      clients.emplace_back([&] {
        for (std::size_t m = next++; m < measures.size(); m = next++) {
          const auto result = juniper::ask(*dataset, {"show " + measures[m].name});  // a dataset may be shared
          answers[m] = result ? result->text(0, measures[m].name).value_or("") : result.error()[0].message;
        }
      });
    }
    for (std::thread& client : clients) client.join();
  }
  for (std::size_t m = 0; m < measures.size(); ++m)
    std::cout << measures[m].name << " (" << to_string(measures[m].type) << "): " << answers[m] << "\n";

  // What was called off stays so: a question that comes too late is refused at once.
  cancelled->store(true);
  const auto late = juniper::ask(*dataset, {"by days.day show revenue"});
  std::cout << (late ? "answered" : late.error()[0].code) << "\n";
  return late ? 1 : 0;
}
