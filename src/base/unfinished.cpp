#include "base/unfinished.h"

#include <unistd.h>

#include <array>
#include <climits>
#include <csignal>
#include <cstring>

#include "juniper/signals.h"

namespace juniper {

namespace base {

struct UnfinishedFile {
  enum State : int { free, taken, named };
  std::atomic<int> state{free};
  std::array<char, PATH_MAX> path;  // ends with a null once it is named
};

namespace {

// In static memory, which no handler can find half built.
std::array<UnfinishedFile, 64> files;
std::atomic<int> uninterrupted{0};
std::atomic<int> waiting{0};  // the signal that does; 0 for none

static_assert(std::atomic<int>::is_always_lock_free);

void end_by(int signal) {
  for (UnfinishedFile& file : files) {
    if (file.state.load() == UnfinishedFile::named) ::unlink(file.path.data());
  }
  std::signal(signal, SIG_DFL);
  std::raise(signal);
}

void on_signal(int signal) {
  if (uninterrupted.load() == 0) {
    end_by(signal);
  } else {
    waiting.store(signal);
  }
}

}  // namespace

void Unfinished::begin(const std::string& path) {
  end();
  if (path.size() >= PATH_MAX) return;
  for (UnfinishedFile& file : files) {
    int expected = UnfinishedFile::free;
    if (!file.state.compare_exchange_strong(expected, UnfinishedFile::taken)) continue;
    std::memcpy(file.path.data(), path.c_str(), path.size() + 1);
    file.state.store(UnfinishedFile::named);
    file_ = &file;
    return;
  }
}

void Unfinished::end() {
  if (file_ != nullptr) std::exchange(file_, nullptr)->state.store(UnfinishedFile::free);
}

Uninterrupted::Uninterrupted() {
  ++uninterrupted;
}

Uninterrupted::~Uninterrupted() {
  if (--uninterrupted > 0) return;
  if (const int signal = waiting.exchange(0); signal != 0) end_by(signal);
}

}  // namespace base

void end_on_signals() {
  struct sigaction action {};
  action.sa_handler = base::on_signal;
  // Not blocked while it runs: it ends the process from within.
  action.sa_flags = static_cast<int>(SA_NODEFER);
  sigemptyset(&action.sa_mask);
  for (const int signal : {SIGINT, SIGTERM, SIGHUP}) {
    struct sigaction earlier {};
    // What the caller's caller ignores (a command that goes on without its terminal) stays ignored.
    if (::sigaction(signal, nullptr, &earlier) == 0 && earlier.sa_handler != SIG_IGN)
      ::sigaction(signal, &action, nullptr);
  }
}

}  // namespace juniper
