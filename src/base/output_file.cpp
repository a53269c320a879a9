#include "base/output_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <utility>

#include "base/beside.h"
#include "base/diagnostics.h"

namespace juniper::base {

namespace {

constexpr std::size_t buffer_bytes = std::size_t{1} << 16;

// The first bytes of a plain file that is there.
std::string first_bytes_of(const std::string& path) {
  std::array<char, 4096> bytes{};
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  if (descriptor < 0) return "";
  const ssize_t got = ::pread(descriptor, bytes.data(), bytes.size(), 0);
  ::close(descriptor);
  return {bytes.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
}

// A file system without such a rename gives it a second name; the first one goes with the object that made it.
int put_where_nothing_is(const std::string& from, const std::string& to) {
  const int moved = ::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE);
  return moved != 0 && (errno == EINVAL || errno == ENOSYS) ? ::link(from.c_str(), to.c_str()) : moved;
}

}  // namespace

Result<void> may_replace(const std::string& path, IsOurs is_ours, Overwrite overwrite) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0) return {};
  if (!S_ISREG(status.st_mode)) {
    return tl::unexpected(
        error("JR-011", fmt::format("{} is a folder, a pipe or a device, and is not replaced", path), "name a file"));
  }
  // An empty file is nobody's loss.
  if (overwrite == Overwrite::anything || status.st_size == 0 || is_ours(first_bytes_of(path))) return {};
  return tl::unexpected(error("JR-011", fmt::format("{} holds something else, and is not replaced", path),
                              "name another file, remove this one first, or ask for it with --force"));
}

Result<OutputFile> OutputFile::open(const std::string& path, IsOurs is_ours, const std::string& code,
                                    Overwrite overwrite) {
  struct stat status {};
  const bool is_there = ::stat(path.c_str(), &status) == 0;
  const bool is_written_to = is_there && !S_ISREG(status.st_mode);
  if (!is_written_to) {
    if (auto may = may_replace(path, is_ours, overwrite); !may) return tl::unexpected(may.error());
  }
  OutputFile file;
  file.path_ = path;
  file.code_ = code;
  file.buffer_.reserve(buffer_bytes);
  file.target_ = where_links_lead(path).string();
  if (is_written_to) {
    file.descriptor_ = ::open(path.c_str(), O_WRONLY | O_CLOEXEC);
  } else {
    remove_leftovers(file.target_);
    file.create_beside_target();
    if (is_there && file.descriptor_ >= 0 && ::fchmod(file.descriptor_, status.st_mode & 0777) != 0)
      return tl::unexpected(file.cannot_write(errno));
  }
  if (file.descriptor_ < 0) return tl::unexpected(file.cannot_write(errno));
  return file;
}

Result<OutputFile> OutputFile::open_new(const std::string& path, const std::string& code) {
  OutputFile file;
  file.path_ = path;
  file.code_ = code;
  file.is_new_ = true;
  file.target_ = path;
  struct stat status {};
  if (::lstat(path.c_str(), &status) == 0) return tl::unexpected(file.cannot_write(EEXIST));
  remove_leftovers(file.target_);
  file.create_beside_target();
  if (file.descriptor_ < 0) return tl::unexpected(file.cannot_write(errno));
  return file;
}

OutputFile::OutputFile(OutputFile&& other) noexcept {
  *this = std::move(other);
}

OutputFile& OutputFile::operator=(OutputFile&& other) noexcept {
  path_.swap(other.path_);
  target_.swap(other.target_);
  beside_.swap(other.beside_);
  code_.swap(other.code_);
  buffer_.swap(other.buffer_);
  std::swap(descriptor_, other.descriptor_);
  std::swap(error_, other.error_);
  std::swap(is_new_, other.is_new_);
  std::swap(unfinished_, other.unfinished_);
  return *this;
}

OutputFile::~OutputFile() {
  if (descriptor_ >= 0) ::close(descriptor_);
  if (!beside_.empty()) ::unlink(beside_.c_str());
}

Diagnostics OutputFile::cannot_write(int error) const {
  return base::error(code_, fmt::format("cannot write {}: {}", path_, std::strerror(error)),
                     error == EEXIST ? "name a new file" : "free some space, or name a place that can be written");
}

void OutputFile::create_beside_target() {
  std::string path;
  descriptor_ = create_beside(target_, path, unfinished_);
  if (descriptor_ >= 0) beside_ = std::move(path);
}

void OutputFile::flush() {
  std::string_view rest = buffer_;
  while (error_ == 0 && !rest.empty()) {
    const ssize_t written = ::write(descriptor_, rest.data(), rest.size());
    if (written < 0 && errno != EINTR) error_ = errno;
    if (written > 0) rest.remove_prefix(static_cast<std::size_t>(written));
  }
  buffer_.clear();
}

void OutputFile::write(std::string_view text) {
  buffer_ += text;
  if (buffer_.size() >= buffer_bytes) flush();
}

Result<void> OutputFile::finish() {
  flush();
  if (error_ == 0 && !beside_.empty() && ::fsync(descriptor_) != 0) error_ = errno;
  // Locked until it has its place.
  if (error_ == 0 && !beside_.empty()) {
    const int moved = is_new_ ? put_where_nothing_is(beside_, target_) : ::rename(beside_.c_str(), target_.c_str());
    if (moved != 0) error_ = errno;
  }
  if (::close(std::exchange(descriptor_, -1)) != 0 && error_ == 0) error_ = errno;
  if (error_ != 0) return tl::unexpected(cannot_write(error_));
  if (!is_new_) beside_.clear();
  return {};
}

Result<void> write_new(const std::string& path, const std::string& text, const std::string& code) {
  auto file = OutputFile::open_new(path, code);
  if (!file) return tl::unexpected(file.error());
  file->write(text);
  return file->finish();
}

Result<void> write_output(const std::string& path, const std::string& text, IsOurs is_ours, Overwrite overwrite) {
  auto file = OutputFile::open(path, is_ours, "JR-009", overwrite);
  if (!file) return tl::unexpected(file.error());
  file->write(text);
  return file->finish();
}

}  // namespace juniper::base
