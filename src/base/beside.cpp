#include "base/beside.h"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>

#include "base/descriptor.h"
#include "base/files.h"

namespace juniper::base {

namespace {

constexpr std::string_view mark = ".juniper-";  // of such files; drawn letters follow
constexpr std::size_t letters = 16;

std::string beginning(const std::filesystem::path& target) {
  return "." + target.filename().string() + std::string(mark);
}

}  // namespace

std::filesystem::path where_links_lead(std::filesystem::path path) {
  constexpr int most_links = 40;  // as Linux follows
  std::error_code error;
  for (int i = 0; i < most_links && std::filesystem::is_symlink(path, error); ++i)
    path = path.parent_path() / std::filesystem::read_symlink(path, error);
  return path;
}

namespace {

// Tries names until `create` gives a descriptor, and locks it.
template <class Create>
int create_named(const std::filesystem::path& target, std::string& path, const Create& create) {
  constexpr std::string_view alphabet = "abcdefghijklmnopqrstuvwxyz234567";
  path = (target.parent_path() / (beginning(target) + std::string(letters, 'x'))).string();
  for (;;) {
    std::array<unsigned char, letters> drawn{};
    if (::getrandom(drawn.data(), drawn.size(), 0) != static_cast<ssize_t>(drawn.size())) return -1;
    for (std::size_t i = 0; i < letters; ++i) path[path.size() - letters + i] = alphabet[drawn[i] % alphabet.size()];
    const int descriptor = create(path);
    if (descriptor < 0 && errno == EEXIST) continue;
    if (descriptor < 0) return -1;
    // Where the file system has no locks, nothing is taken for a leftover either.
    while (::flock(descriptor, LOCK_EX) != 0 && errno == EINTR) {
    }
    // Before it was locked, it may have been taken for one.
    struct stat status {};
    if (::fstat(descriptor, &status) != 0 || status.st_nlink != 0) return descriptor;
    ::close(descriptor);
  }
}

}  // namespace

int create_beside(const std::filesystem::path& target, std::string& path, Unfinished& unfinished) {
  return create_named(target, path, [&](const std::string& name) {
    unfinished.begin(name);
    return ::open(name.c_str(), O_CREAT | O_EXCL | O_RDWR | O_CLOEXEC | O_NOFOLLOW, 0644);
  });
}

int create_folder_beside(const std::filesystem::path& target, std::string& path) {
  return create_named(target, path, [](const std::string& name) {
    return ::mkdir(name.c_str(), 0755) != 0 ? -1
                                            : ::open(name.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
  });
}

void each_leftover(const std::filesystem::path& target, const std::function<void(const std::filesystem::path&)>& take) {
  const std::string begins = beginning(target);
  for (const std::filesystem::path& entry : entries_of(target.parent_path())) {
    const std::string name = entry.filename().string();
    if (!name.starts_with(begins) || name.size() != begins.size() + letters) continue;
    const Descriptor file(::open(entry.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOFOLLOW));
    if (file.number() >= 0 && ::flock(file.number(), LOCK_EX | LOCK_NB) == 0) take(entry);
  }
}

void remove_leftovers(const std::filesystem::path& target) {
  each_leftover(target, [](const std::filesystem::path& entry) { ::unlink(entry.c_str()); });
}

}  // namespace juniper::base
