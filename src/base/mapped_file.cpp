#include "base/mapped_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <mutex>
#include <utility>

#include "base/beside.h"
#include "base/failure.h"

namespace juniper::base {

// Where a file is mapped. Ranges are never freed, as a signal may come at any time, but used again.
struct MappedRange {
  std::atomic<std::uintptr_t> begin{0};
  std::atomic<std::uintptr_t> end{0};  // 0: of no file now
  std::atomic<OpenFile*> file{nullptr};
  MappedRange* next = nullptr;  // set before it is in the list
};

namespace {

// All that the signal handler touches: a list that only grows, and what it needs of the system.
std::atomic<MappedRange*> ranges{nullptr};
std::uintptr_t page_bytes = 0;
struct sigaction earlier_action {};

// For those who add to the list.
std::mutex& lock() {
  static std::mutex mutex;
  return mutex;
}

thread_local FilesInUse* innermost = nullptr;

// To whoever had the signal before. By default it ends the process, once the memory is read again.
void hand_on(int signal, siginfo_t* info, void* context) {
  if ((earlier_action.sa_flags & SA_SIGINFO) != 0) {
    earlier_action.sa_sigaction(signal, info, context);
  } else if (earlier_action.sa_handler != SIG_DFL && earlier_action.sa_handler != SIG_IGN) {
    earlier_action.sa_handler(signal);
  } else {
    ::sigaction(SIGBUS, &earlier_action, nullptr);
  }
}

// Puts zeros behind the end of a file of ours. mmap is a plain call of the system, and may stand in a handler.
void on_bus_error(int signal, siginfo_t* info, void* context) {
  const auto at = reinterpret_cast<std::uintptr_t>(info->si_addr);
  for (MappedRange* range = ranges.load(); range != nullptr; range = range->next) {
    const std::uintptr_t end = range->end.load();
    if (at < range->begin.load() || at >= end) continue;
    range->file.load()->set_shortened();
    const std::uintptr_t from = at / page_bytes * page_bytes;
    if (::mmap(reinterpret_cast<void*>(from), end - from, PROT_READ,
               MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED | MAP_NORESERVE, -1, 0) == MAP_FAILED)
      break;
    return;
  }
  hand_on(signal, info, context);
}

void watch_for_bus_errors() {
  static const bool watched = [] {
    page_bytes = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
    struct sigaction action {};
    action.sa_sigaction = on_bus_error;
    action.sa_flags = SA_SIGINFO | SA_ONSTACK;
    ::sigemptyset(&action.sa_mask);
    return ::sigaction(SIGBUS, &action, &earlier_action) == 0;
  }();
  static_cast<void>(watched);
}

std::int64_t modified_nanoseconds(const struct stat& status) {
  return std::int64_t{status.st_mtim.tv_sec} * 1'000'000'000 + status.st_mtim.tv_nsec;
}

}  // namespace

// Opened last, so that nothing is left open where memory runs out.
OpenFile::OpenFile(const std::filesystem::path& path)
    : path_(path.string()), descriptor_(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK)), error_(errno) {}

OpenFile::OpenFile(Beside beside) : descriptor_(create_beside(beside.target, path_, unfinished_)), error_(errno) {}

OpenFile::~OpenFile() {
  if (is_removed_) ::unlink(path_.c_str());
  if (descriptor_ >= 0) ::close(descriptor_);
}

void OpenFile::expect_bytes(std::uint64_t bytes) {
  std::uint64_t before = bytes_.load();
  while (before < bytes && !bytes_.compare_exchange_weak(before, bytes)) {
  }
}

void OpenFile::expect_as_it_is() {
  struct stat status {};
  if (::fstat(descriptor_, &status) == 0) modified_nanoseconds_ = modified_nanoseconds(status);
}

void OpenFile::fail_if_changed() const {
  const auto fail = [&](const char* change) {
    throw Failure(
        base::error("JR-607", fmt::format("{} {} while it was open", path_, change),
                    "load it again from the model text; a store is replaced by another file, never written to"));
  };
  struct stat status {};
  const bool has_status = ::fstat(descriptor_, &status) == 0;
  if (shortened_.load() || (has_status && static_cast<std::uint64_t>(status.st_size) < bytes_.load()))
    fail("was shortened");
  const std::int64_t modified = modified_nanoseconds_.load();
  if (has_status && modified != 0 && modified != modified_nanoseconds(status)) fail("was written to");
}

MappedFile::MappedFile(std::shared_ptr<OpenFile> file, std::span<const std::byte> bytes)
    : file_(std::move(file)), bytes_(bytes) {
  if (bytes.empty()) return;
  const std::lock_guard guard(lock());
  range_ = ranges.load();
  while (range_ != nullptr && range_->end.load() != 0) range_ = range_->next;
  if (range_ == nullptr) {
    range_ = new MappedRange;
    range_->next = ranges.load();
    ranges.store(range_);
  }
  range_->file = file_.get();
  range_->begin = reinterpret_cast<std::uintptr_t>(bytes.data());
  range_->end = reinterpret_cast<std::uintptr_t>(bytes.data() + bytes.size());
}

std::shared_ptr<const MappedFile> MappedFile::map(std::shared_ptr<OpenFile> file, std::size_t begin,
                                                  std::size_t bytes) {
  watch_for_bus_errors();
  void* memory = nullptr;
  if (bytes != 0) memory = ::mmap(nullptr, bytes, PROT_READ, MAP_SHARED, file->descriptor(), static_cast<off_t>(begin));
  if (memory == MAP_FAILED) return nullptr;
  file->expect_bytes(begin + bytes);
  const std::span mapped(static_cast<const std::byte*>(memory), bytes);
  return std::shared_ptr<const MappedFile>(new MappedFile(std::move(file), mapped));
}

MappedFile::~MappedFile() {
  if (range_ == nullptr) return;
  {
    const std::lock_guard guard(lock());
    range_->end = 0;
  }
  ::munmap(const_cast<std::byte*>(bytes_.data()), bytes_.size());
}

FilesInUse::FilesInUse() : outer_(innermost) {
  innermost = this;
}

FilesInUse::~FilesInUse() {
  innermost = outer_;
}

void FilesInUse::add(const std::shared_ptr<const OpenFile>& file) {
  if (!file) return;
  for (FilesInUse* scope = innermost; scope != nullptr; scope = scope->outer_) {
    auto& files = scope->files_;
    if (std::find(files.begin(), files.end(), file) == files.end()) files.push_back(file);
  }
}

void FilesInUse::fail_if_changed() const {
  for (const auto& file : files_) file->fail_if_changed();
}

}  // namespace juniper::base
