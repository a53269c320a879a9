#include "refactor/text_file.h"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iterator>

#include "base/diagnostics.h"

namespace juniper::refactor {

Result<void> replace_text(const std::string& path, const std::string& before, const std::string& after) {
  const auto fail = [](std::string code, std::string message, std::string fix) {
    return tl::unexpected(base::error(std::move(code), std::move(message), std::move(fix)));
  };
  std::ifstream now(path, std::ios::binary);
  if (!now) return fail("JR-806", fmt::format("cannot read {}", path), "");
  if (std::string(std::istreambuf_iterator<char>(now), {}) != before)
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

}  // namespace juniper::refactor
