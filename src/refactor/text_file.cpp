#include "refactor/text_file.h"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iterator>

#include "base/diagnostics.h"

namespace juniper::refactoring {

Result<std::string> read_text(const std::string& path) {
  std::error_code ignored;
  std::ifstream file(path, std::ios::binary);
  if (!file || std::filesystem::is_directory(path, ignored))
    return tl::unexpected(base::error("JR-806", fmt::format("cannot read {}", path), ""));
  return std::string(std::istreambuf_iterator<char>(file), {});
}

Result<void> replace_text(const std::string& path, const std::string& before, const std::string& after) {
  const auto fail = [](std::string code, std::string message, std::string fix) {
    return tl::unexpected(base::error(std::move(code), std::move(message), std::move(fix)));
  };
  const auto now = read_text(path);
  if (!now) return tl::unexpected(now.error());
  if (*now != before)
    return fail("JR-805", fmt::format("{} has changed since it was read", path), "run the command again");
  const std::string beside = path + ".new";
  std::ofstream file(beside, std::ios::binary | std::ios::trunc);
  file << after;
  file.close();
  std::error_code error;
  if (file) std::filesystem::rename(beside, path, error);
  if (!file || error) return fail("JR-806", fmt::format("cannot write {}", path), "");
  return {};
}

}  // namespace juniper::refactoring
