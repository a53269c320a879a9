#include "source/rejects.h"

#include <fmt/format.h>

namespace juniper::source {

namespace {

constexpr std::string_view header = "file,line,reasons,record\n";

std::string quoted_cell(std::string_view text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"') out += c;
    out += c;
  }
  return out + '"';
}

}  // namespace

Result<Rejects> Rejects::open(const std::string& path, Overwrite overwrite) {
  auto file = base::OutputFile::open(
      path, [](std::string_view begin) { return begin.starts_with(header); }, "JR-511", overwrite);
  if (!file) return tl::unexpected(file.error());
  file->write(header);
  return Rejects(std::move(*file));
}

void Rejects::add(const std::string& file, std::uint64_t line, std::string_view reasons, std::string_view record) {
  if (count_++ == 0) first_ = {file, line, std::string(reasons)};
  if (file_)
    file_->write(fmt::format("{},{},{},{}\n", quoted_cell(file), line, quoted_cell(reasons), quoted_cell(record)));
}

Result<void> Rejects::close() {
  return file_ ? file_->finish() : Result<void>();
}

}  // namespace juniper::source
