// Files mapped for reading, which somebody else may shorten or write to meanwhile. The system ends a process that reads
// behind the end of such a file (SIGBUS, POSIX); here zeros are read there instead. Whoever read them, or anything else
// that was not there at first, is told before it is believed: FilesInUse notes what a public function reads, and is asked
// at its end (base/failure.h).
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "base/unfinished.h"

namespace juniper::base {

// An open file whose parts may be mapped. Any thread.
class OpenFile {
 public:
  // Opens it for reading, and closes it in the end. It is not waited for, whatever it is.
  explicit OpenFile(const std::filesystem::path& path);
  // A new one beside another (base/beside.h).
  struct Beside {
    const std::filesystem::path& target;
  };
  explicit OpenFile(Beside beside);
  ~OpenFile();
  OpenFile(const OpenFile&) = delete;
  OpenFile& operator=(const OpenFile&) = delete;

  const std::string& path() const { return path_; }
  // Below 0 where it can't be opened, for `error`.
  int descriptor() const { return descriptor_; }
  int error() const { return error_; }
  // From now on it is written to no more, and reaches at least up to here.
  void expect_bytes(std::uint64_t bytes);
  void expect_as_it_is();
  void set_shortened() { shortened_ = true; }
  // Removes its name when it is closed.
  void remove_in_the_end() { is_removed_ = true; }
  // It has got the name that it was written for.
  void has_its_place() { unfinished_.end(); }
  // Throws a base::Failure, JR-607, where it is shorter than it was or was written to.
  void fail_if_changed() const;

 private:
  std::string path_;
  Unfinished unfinished_;  // of a file that waits beside its place
  int descriptor_;
  int error_;
  std::atomic<std::int64_t> modified_nanoseconds_{0};  // 0: may change
  std::atomic<std::uint64_t> bytes_{0};
  std::atomic<bool> shortened_{false};
  bool is_removed_ = false;
};

struct MappedRange;

// A part of a file in memory.
class MappedFile {
 public:
  // Maps `bytes` bytes from `begin` on, a multiple of the system's page. Nothing, with errno, where the system does not;
  // no bytes are always mapped. The handler of SIGBUS is set with the first file: signals of other memory go to the one
  // before it.
  static std::shared_ptr<const MappedFile> map(std::shared_ptr<OpenFile> file, std::size_t begin, std::size_t bytes);
  ~MappedFile();
  MappedFile(const MappedFile&) = delete;
  MappedFile& operator=(const MappedFile&) = delete;

  std::span<const std::byte> bytes() const { return bytes_; }

 private:
  MappedFile(std::shared_ptr<OpenFile> file, std::span<const std::byte> bytes);

  std::shared_ptr<OpenFile> file_;
  std::span<const std::byte> bytes_;
  MappedRange* range_ = nullptr;
};

// The files that are read between its begin and its end, by this thread or for it. One within another belongs to it.
class FilesInUse {
 public:
  FilesInUse();
  ~FilesInUse();
  FilesInUse(const FilesInUse&) = delete;
  FilesInUse& operator=(const FilesInUse&) = delete;

  // Notes a file, which may be nothing, in the innermost of this thread, if there is one.
  static void add(const std::shared_ptr<const OpenFile>& file);
  // Throws as OpenFile::fail_if_changed.
  void fail_if_changed() const;

 private:
  std::vector<std::shared_ptr<const OpenFile>> files_;
  FilesInUse* outer_;
};

}  // namespace juniper::base
