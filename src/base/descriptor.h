// An open file or folder of the system's.
#pragma once

#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <thread>
#include <utility>

namespace juniper::base {

class Descriptor {
 public:
  Descriptor() = default;
  explicit Descriptor(int number) : number_(number) {}
  Descriptor(Descriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    std::swap(number_, other.number_);
    return *this;
  }
  ~Descriptor() {
    if (number_ >= 0) ::close(number_);
  }
  int number() const { return number_; }

 private:
  int number_ = -1;
};

// Waits for those who have the file or folder locked now (flock(2)), a while; false if they still have it. File systems
// without locks go without.
inline bool locks(const Descriptor& file, int how = LOCK_EX) {
  constexpr auto longest = std::chrono::seconds(10);
  const auto begin = std::chrono::steady_clock::now();
  while (::flock(file.number(), how | LOCK_NB) != 0 && (errno == EWOULDBLOCK || errno == EINTR)) {
    if (std::chrono::steady_clock::now() - begin > longest) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  return true;
}

}  // namespace juniper::base
