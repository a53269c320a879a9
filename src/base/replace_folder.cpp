#include "base/replace_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <string_view>
#include <utility>

#include "base/beside.h"
#include "base/descriptor.h"
#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/files.h"
#include "base/unfinished.h"

namespace juniper::base {

namespace {

namespace fs = std::filesystem;

bool is_folder(const fs::path& path) {
  struct stat status {};
  return ::lstat(path.c_str(), &status) == 0 && S_ISDIR(status.st_mode);
}

// Also where it is not there at all.
bool is_older(const fs::path& path, const fs::path& than) {
  struct stat one {};
  struct stat other {};
  if (::lstat(path.c_str(), &one) != 0) return true;
  if (::lstat(than.c_str(), &other) != 0) return false;
  return std::pair(one.st_mtim.tv_sec, one.st_mtim.tv_nsec) < std::pair(other.st_mtim.tv_sec, other.st_mtim.tv_nsec);
}

// Two names of one file, or two files of the same bytes.
bool are_same(const fs::path& a, const fs::path& b) {
  struct stat one {};
  struct stat other {};
  if (::lstat(a.c_str(), &one) != 0 || ::lstat(b.c_str(), &other) != 0) return false;
  if (one.st_ino == other.st_ino && one.st_dev == other.st_dev) return true;
  if ((one.st_mode & S_IFMT) != (other.st_mode & S_IFMT)) return false;
  std::error_code error;
  if (S_ISLNK(one.st_mode)) return fs::read_symlink(a, error) == fs::read_symlink(b, error) && !error;
  const auto text = read_plain_file(a);
  return text && read_plain_file(b) == text;
}

// A folder that is open, still the one of that name. Whoever had the lock may have put another one there.
bool stands_at(const Descriptor& folder, const fs::path& path) {
  struct stat taken {};
  struct stat now {};
  return ::fstat(folder.number(), &taken) == 0 && ::stat(path.c_str(), &now) == 0 && now.st_ino == taken.st_ino &&
         now.st_dev == taken.st_dev;
}

class Replacing {
 public:
  Replacing(const fs::path& path, const FolderFiles& files, const OwnFiles& own, const IsAsRead& is_as_read,
            const std::string& code)
      : target_(where_links_lead(path.has_filename() ? path : path.parent_path())),
        files_(files),
        own_(own),
        is_as_read_(is_as_read),
        code_(code) {}

  Result<void> run() {
    make_folders(target_.parent_path());
    each_leftover(target_, [this](const fs::path& leftover) { settle(leftover); });
    const Descriptor old = take();
    if (!is_as_read_(target_)) {
      return tl::unexpected(
          error("JR-910", fmt::format("{} has changed since it was read", target_.string()), "run the command again"));
    }
    const Uninterrupted until_all_is_in_place;
    const Descriptor fresh(create_folder_beside(target_, beside_));
    if (fresh.number() < 0) fail("make a folder beside", target_, errno);
    try {
      fill(old, fresh);
      exchange(old);
    } catch (...) {
      remove(beside_);
      throw;
    }
    if (old.number() >= 0) settle(beside_);
    return {};
  }

 private:
  [[noreturn]] void fail(const std::string& what, const fs::path& path, int number) const {
    throw Failure(error(code_, fmt::format("cannot {} {}: {}", what, path.string(), std::strerror(number)),
                        "nothing was changed: what stood there is as it was"));
  }
  void make_folders(const fs::path& folder) const {
    std::error_code error;
    if (!folder.empty()) fs::create_directories(folder, error);
    if (error) fail("make the folder", folder, error.value());
  }

  // The folder that stands there, locked; none where nothing does.
  Descriptor take() const {
    for (;;) {
      Descriptor folder(::open(target_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
      if (folder.number() < 0 && errno == ENOENT) return folder;
      if (folder.number() < 0) fail("open", target_, errno);
      if (!locks(folder)) fail("lock", target_, EWOULDBLOCK);
      if (stands_at(folder, target_)) return folder;
    }
  }

  void fill(const Descriptor& old, const Descriptor& fresh) const {
    struct stat like {};
    if (old.number() >= 0 && ::fstat(old.number(), &like) == 0) {
      if (::fchmod(fresh.number(), like.st_mode & 07777) != 0) fail("keep the mode of", target_, errno);
      // The owner is kept where that is allowed: folders are shared by groups.
      if (::fchown(fresh.number(), like.st_uid, like.st_gid) != 0 && errno != EPERM)
        fail("keep the owner of", target_, errno);
    }
    write(files_.first);
    for (const auto& [name, text] : files_.texts) {
      if (name != files_.first) write(name);
    }
    if (old.number() >= 0) {
      const auto own = own_(target_);
      if (!own) fail("read", target_ / files_.first, EIO);
      take_over("", *own);
    }
    if (::fsync(fresh.number()) != 0) fail("sync", beside_, errno);
  }
  void write(const std::string& name) const {
    const fs::path path = fs::path(beside_) / name;
    make_folders(path.parent_path());
    const Descriptor file(::open(path.c_str(), O_CREAT | O_EXCL | O_WRONLY | O_CLOEXEC | O_NOFOLLOW, 0644));
    if (file.number() < 0) fail("write", path, errno);
    for (std::string_view rest = files_.texts.at(name); !rest.empty();) {
      const ssize_t written = ::write(file.number(), rest.data(), rest.size());
      if (written < 0 && errno == EINTR) continue;
      if (written < 0) fail("write", path, errno);
      rest.remove_prefix(static_cast<std::size_t>(written));
    }
    if (::fsync(file.number()) != 0) fail("sync", path, errno);
  }
  // What is somebody else's gets a second name in the new folder, so that who has it open goes on with the same file.
  void take_over(const fs::path& within, const std::set<std::string>& own) const {
    for (const fs::path& from : entries_of(target_ / within)) {
      const fs::path name = within / from.filename();
      const fs::path to = fs::path(beside_) / name;
      if (own.contains(name.generic_string()) || name == files_.first) continue;
      if (is_folder(from)) {
        make_folders(to);
        take_over(name, own);
        continue;
      }
      if (::link(from.c_str(), to.c_str()) == 0) continue;
      if (errno == EEXIST) fail("replace what somebody else has put at", from, errno);
      std::error_code error;
      fs::copy(from, to, fs::copy_options::copy_symlinks, error);
      if (error) fail("take over", from, error.value());
    }
  }

  void exchange(const Descriptor& old) const {
    const bool is_new = old.number() < 0;
    const unsigned how = is_new ? RENAME_NOREPLACE : RENAME_EXCHANGE;
    if (::renameat2(AT_FDCWD, beside_.c_str(), AT_FDCWD, target_.c_str(), how) != 0) {
      if (errno != EINVAL && errno != ENOSYS && errno != EOPNOTSUPP) fail("write", target_, errno);
      exchange_in_steps(is_new);
    }
    const fs::path above = target_.has_parent_path() ? target_.parent_path() : fs::path(".");
    const Descriptor folder(::open(above.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (folder.number() >= 0) ::fsync(folder.number());
  }
  // On a file system that can't exchange: between two of these renames nothing stands there.
  void exchange_in_steps(bool is_new) const {
    const std::string aside = beside_ + "-old";
    if (!is_new && ::rename(target_.c_str(), aside.c_str()) != 0) fail("write", target_, errno);
    if (::rename(beside_.c_str(), target_.c_str()) != 0) {
      const int number = errno;
      if (!is_new) ::rename(aside.c_str(), target_.c_str());
      fail("write", target_, number);
    }
    if (!is_new) ::rename(aside.c_str(), beside_.c_str());
  }

  // Removes a folder that another one has taken the place of. What is somebody else's and was saved there since comes
  // into the new one.
  void settle(const fs::path& left) const {
    if (!is_folder(left)) {
      ::unlink(left.c_str());
      return;
    }
    const auto own = own_(left);
    if (!own) return;  // for the next one, who may be able to tell
    settle(left, "", *own);
    ::rmdir(left.c_str());
  }
  void settle(const fs::path& left, const fs::path& within, const std::set<std::string>& own) const {
    for (const fs::path& from : entries_of(left / within)) {
      const fs::path name = within / from.filename();
      const fs::path to = target_ / name;
      if (is_folder(from)) {
        settle(left, name, own);
        ::rmdir(from.c_str());
      } else if (own.contains(name.generic_string()) || name == files_.first || are_same(from, to)) {
        ::unlink(from.c_str());
      } else {
        std::error_code error;
        fs::create_directories(to.parent_path(), error);
        if (is_older(to, from) && !files_.texts.contains(name.generic_string())) {
          ::rename(from.c_str(), to.c_str());
        } else {
          ::unlink(from.c_str());
        }
      }
    }
  }
  // Removes the folder that has not taken any place: nothing in it is the only one.
  static void remove(const fs::path& folder) {
    for (const fs::path& entry : entries_of(folder)) {
      if (is_folder(entry)) {
        remove(entry);
      } else {
        ::unlink(entry.c_str());
      }
    }
    ::rmdir(folder.c_str());
  }

  fs::path target_;
  const FolderFiles& files_;
  const OwnFiles& own_;
  const IsAsRead& is_as_read_;
  const std::string& code_;
  std::string beside_;
};

}  // namespace

Descriptor hold_folder(const fs::path& path) {
  for (;;) {
    Descriptor folder(::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (folder.number() < 0 || !locks(folder, LOCK_SH)) return Descriptor();
    if (stands_at(folder, path)) return folder;
  }
}

Result<void> replace_folder(const fs::path& path, const FolderFiles& files, const OwnFiles& own,
                            const IsAsRead& is_as_read, const std::string& code) {
  return guarded([&] { return Replacing(path, files, own, is_as_read, code).run(); });
}

}  // namespace juniper::base
