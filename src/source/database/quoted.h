// Names as SQL writes them.
#pragma once

#include <string>
#include <string_view>

namespace juniper::source {

inline std::string quoted_name(std::string_view name) {
  std::string out = "\"";
  for (const char c : name) out.append(c == '"' ? 2 : 1, c);
  return out + '"';
}

}  // namespace juniper::source
