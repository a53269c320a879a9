// What a signal that ends the process finds unfinished: files that wait beside their places, which go, and changes of
// several names, which are carried through first.
//
// A program asks for it with `end_on_signals` (juniper/signals.h). What the handler does is async-signal-safe
// (signal-safety(7)): it reads names from fixed places, and removes what bears them.
#pragma once

#include <atomic>
#include <string>
#include <utility>

namespace juniper::base {

struct UnfinishedFile;

// A file that a signal removes, from `begin` until `end` or the end of this. Where too many are under way, or its name is
// too long, it stays for the next process that removes what was left over.
class Unfinished {
 public:
  Unfinished() = default;
  Unfinished(Unfinished&& other) noexcept : file_(std::exchange(other.file_, nullptr)) {}
  Unfinished& operator=(Unfinished&& other) noexcept {
    std::swap(file_, other.file_);
    return *this;
  }
  ~Unfinished() { end(); }

  // To be called before it is created: there is no moment at which it would stay.
  void begin(const std::string& path);
  void end();

 private:
  UnfinishedFile* file_ = nullptr;
};

// While one lives, signals wait.
class Uninterrupted {
 public:
  Uninterrupted();
  ~Uninterrupted();
  Uninterrupted(const Uninterrupted&) = delete;
  Uninterrupted& operator=(const Uninterrupted&) = delete;
};

}  // namespace juniper::base
