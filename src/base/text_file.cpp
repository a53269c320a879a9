#include "base/text_file.h"

#include <fmt/format.h>

#include <fstream>

#include "base/diagnostics.h"

namespace juniper::base {

Result<void> write_text(const std::string& path, const std::string& text) {
  std::ofstream file(path, std::ios::binary);
  file << text;
  file.flush();
  if (!file)
    return tl::unexpected(error("JR-009", fmt::format("cannot write {}", path), "name a place that can be written"));
  return {};
}

}  // namespace juniper::base
