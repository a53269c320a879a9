#include "base/replace_files.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <list>
#include <map>
#include <optional>
#include <set>
#include <vector>

#include "base/beside.h"
#include "base/descriptor.h"
#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/unfinished.h"

namespace juniper::base {

namespace {

namespace fs = std::filesystem;

[[noreturn]] void fail(const std::string& what, const fs::path& path, int number) {
  throw Failure(error("JR-806", fmt::format("cannot {} {}: {}", what, path.string(), std::strerror(number)),
                      "nothing was written: all files are as they were"));
}

std::string read_all(const Descriptor& file, const fs::path& path) {
  std::string text;
  std::vector<char> piece(std::size_t{1} << 16);
  for (;;) {
    const ssize_t got = ::pread(file.number(), piece.data(), piece.size(), static_cast<off_t>(text.size()));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) fail("read", path, errno);
    if (got == 0) return text;
    text.append(piece.data(), static_cast<std::size_t>(got));
  }
}

// Neither a pipe nor a device, which may have no end.
Descriptor open_file(const fs::path& path, struct stat& status) {
  Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  if (file.number() < 0 || ::fstat(file.number(), &status) != 0) fail("read", path, errno);
  if (!S_ISREG(status.st_mode)) fail("read", path, S_ISDIR(status.st_mode) ? EISDIR : EINVAL);
  return file;
}

Result<void> changed(const fs::path& path) {
  return tl::unexpected(
      error("JR-805", fmt::format("{} has changed since it was read", path.string()), "run the command again"));
}

// A file beside another, of its mode and owner, locked; removed in the end.
class Beside {
 public:
  Beside(const fs::path& target, const struct stat& like, const std::string& text)
      : file_(create_beside(target, path_, unfinished_)) {
    if (file_.number() < 0) fail("write beside", target, errno);
    try {
      fill(target, like, text);
    } catch (...) {
      ::unlink(path_.c_str());
      throw;
    }
  }
  ~Beside() { ::unlink(path_.c_str()); }
  Beside(const Beside&) = delete;
  Beside& operator=(const Beside&) = delete;
  const char* path() const { return path_.c_str(); }

 private:
  void fill(const fs::path& target, const struct stat& like, const std::string& text) const {
    struct stat own {};
    if (::fstat(file_.number(), &own) != 0) fail("write beside", target, errno);
    if ((own.st_uid != like.st_uid || own.st_gid != like.st_gid) &&
        ::fchown(file_.number(), like.st_uid, like.st_gid) != 0)
      fail("keep the owner of", target, errno);
    if (::fchmod(file_.number(), like.st_mode & 07777) != 0) fail("keep the mode of", target, errno);
    for (std::size_t at = 0; at < text.size();) {
      const ssize_t written = ::write(file_.number(), text.data() + at, text.size() - at);
      if (written < 0 && errno == EINTR) continue;
      if (written < 0) fail("write beside", target, errno);
      at += static_cast<std::size_t>(written);
    }
    if (::fsync(file_.number()) != 0) fail("write beside", target, errno);
  }

  std::string path_;  // before the descriptor, which fills these two in
  Unfinished unfinished_;
  Descriptor file_;
};

// One file on its way.
class Change {
 public:
  // `target` is where the links of the path lead.
  Change(fs::path target, const Replacement& wanted) : wanted_(wanted), target_(std::move(target)) {}
  const fs::path& target() const { return target_; }
  bool writes() const { return wanted_.before != wanted_.after; }

  // Locks the file that stands there, and compares it.
  Result<void> take() {
    remove_leftovers(target_);
    for (;;) {
      old_ = open_file(target_, status_);
      if (!locks(old_)) fail("lock", target_, EWOULDBLOCK);
      // Whoever had the lock may have put another file there.
      struct stat now {};
      if (::stat(target_.c_str(), &now) == 0 && now.st_ino == status_.st_ino && now.st_dev == status_.st_dev) break;
    }
    return read_all(old_, target_) == wanted_.before ? Result<void>{} : changed(target_);
  }
  void write_beside() { beside_.emplace(target_, status_, wanted_.after); }
  // Puts the new file in the place of the old one, or fails and leaves all as it is.
  Result<void> exchange() {
    if (::renameat2(AT_FDCWD, beside_->path(), AT_FDCWD, target_.c_str(), RENAME_EXCHANGE) == 0) {
      exchanged_ = true;
      struct stat ignored {};
      return read_all(open_file(beside_->path(), ignored), target_) == wanted_.before ? Result<void>{}
                                                                                      : changed(target_);
    }
    if (errno != EINVAL && errno != ENOSYS && errno != EOPNOTSUPP) fail("write", target_, errno);
    // Where the file system can't exchange, what was there is kept as a copy.
    kept_.emplace(target_, status_, wanted_.before);
    if (::rename(beside_->path(), target_.c_str()) != 0) fail("write", target_, errno);
    return {};
  }
  void put_back() {
    if (exchanged_) {
      ::renameat2(AT_FDCWD, beside_->path(), AT_FDCWD, target_.c_str(), RENAME_EXCHANGE);
    } else if (kept_) {
      ::rename(kept_->path(), target_.c_str());
    }
  }

 private:
  const Replacement& wanted_;
  fs::path target_;
  struct stat status_ {};
  Descriptor old_;
  std::optional<Beside> beside_;  // the new file; once it is exchanged, the old one
  std::optional<Beside> kept_;
  bool exchanged_ = false;
};

void sync_folder(const fs::path& folder) {
  const Descriptor file(::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (file.number() < 0 || ::fsync(file.number()) != 0) fail("sync the folder", folder, errno);
}

Result<void> replace(std::list<Change>& changes) {
  for (Change& change : changes) {
    if (auto taken = change.take(); !taken) return taken;
  }
  std::erase_if(changes, [](const Change& change) { return !change.writes(); });
  for (Change& change : changes) change.write_beside();
  const auto put_all_back = [&] {
    for (Change& change : changes) change.put_back();
  };
  const Uninterrupted until_all_is_in_place;
  try {
    for (Change& change : changes) {
      if (auto done = change.exchange(); !done) {
        put_all_back();
        return done;
      }
    }
    std::set<fs::path> folders;
    for (const Change& change : changes) folders.insert(change.target().parent_path());
    for (const fs::path& folder : folders) sync_folder(folder);
  } catch (...) {
    put_all_back();
    throw;
  }
  return {};
}

}  // namespace

Result<void> replace_files(std::span<const Replacement> files) {
  return guarded([&]() -> Result<void> {
    std::map<fs::path, const Replacement*> targets;  // all who lock several lock them in this order
    for (const Replacement& file : files) {
      std::error_code error;
      const fs::path target = fs::canonical(file.path, error);
      if (error) fail("read", file.path, error.value());
      targets.emplace(target, &file);
    }
    std::list<Change> changes;
    for (const auto& [target, file] : targets) changes.emplace_back(target, *file);
    return replace(changes);
  });
}

}  // namespace juniper::base
