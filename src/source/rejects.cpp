#include "source/rejects.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>

#include "base/diagnostics.h"

namespace juniper::source {

namespace {

Diagnostics cannot_write(const std::string& path) {
  return base::error("JR-511", fmt::format("cannot write the rejected rows to {}: {}", path, std::strerror(errno)),
                     "name another file with --reject");
}

std::string quoted_cell(std::string_view text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"') out += c;
    out += c;
  }
  return out + '"';
}

}  // namespace

Result<Rejects> Rejects::open(const std::string& path) {
  Rejects rejects;
  rejects.path_ = path;
  rejects.file_.reset(std::fopen(path.c_str(), "wb"));
  if (!rejects.file_) return tl::unexpected(cannot_write(path));
  fmt::print(rejects.file_.get(), "file,line,reasons,record\n");
  return rejects;
}

void Rejects::add(const std::string& file, std::uint64_t line, std::string_view reasons, std::string_view record) {
  fmt::print(file_.get(), "{},{},{},{}\n", quoted_cell(file), line, quoted_cell(reasons), quoted_cell(record));
}

Result<void> Rejects::close() {
  const bool failed = std::ferror(file_.get()) != 0;
  if (std::fclose(file_.release()) != 0 || failed) return tl::unexpected(cannot_write(path_));
  return {};
}

}  // namespace juniper::source
