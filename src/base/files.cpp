#include "base/files.h"

#include <dirent.h>

#include <algorithm>
#include <cerrno>
#include <memory>
#include <new>

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

}  // namespace juniper::base
