#include "base/files.h"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <memory>
#include <new>

#include "base/descriptor.h"

namespace juniper::base {

std::vector<std::filesystem::path> entries_of(const std::filesystem::path& folder) {
  std::vector<std::filesystem::path> entries;
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.empty() ? "." : folder.c_str()), &::closedir);
  if (!open && errno == ENOMEM) throw std::bad_alloc();
  if (!open) return entries;
  while (const dirent* const entry = ::readdir(open.get())) {
    const std::string_view name = entry->d_name;
    if (name != "." && name != "..") entries.push_back(folder / name);
  }
  std::sort(entries.begin(), entries.end());
  return entries;
}

tl::expected<int, std::string> open_plain_file(const std::filesystem::path& path) {
  // Without waiting for somebody to write into a pipe.
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  struct stat status {};
  std::string why;
  if (descriptor < 0 || ::fstat(descriptor, &status) != 0) {
    why = std::strerror(errno);
  } else if (S_ISDIR(status.st_mode)) {
    why = "it is a folder";
  } else if (!S_ISREG(status.st_mode)) {
    why = "it is a pipe or a device, and no plain file";
  }
  if (why.empty()) return descriptor;
  if (descriptor >= 0) ::close(descriptor);
  return tl::unexpected(std::move(why));
}

tl::expected<std::string, std::string> read_plain_file(const std::filesystem::path& path) {
  const auto descriptor = open_plain_file(path);
  if (!descriptor) return tl::unexpected(descriptor.error());
  const Descriptor closed_in_the_end(*descriptor);
  constexpr std::size_t piece = std::size_t{1} << 20;
  struct stat status {};
  if (::fstat(*descriptor, &status) != 0) return tl::unexpected(std::string(std::strerror(errno)));
  std::string text;
  text.reserve(static_cast<std::size_t>(status.st_size) + 1);  // one more, to see that it ends there
  while (true) {
    const std::size_t got = text.size();
    text.resize(got < text.capacity() ? text.capacity() : got + piece);
    const ssize_t bytes = ::read(*descriptor, text.data() + got, text.size() - got);
    if (bytes < 0 && errno == EINTR) {
      text.resize(got);
      continue;
    }
    if (bytes < 0) return tl::unexpected(std::string(std::strerror(errno)));
    text.resize(got + static_cast<std::size_t>(bytes));
    if (bytes == 0) return text;
  }
}

}  // namespace juniper::base
