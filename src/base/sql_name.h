// Names as SQL writes them: "name", with quotes within it doubled.
#pragma once

#include <string>
#include <string_view>

namespace juniper::base {

inline std::string sql_name(std::string_view name) {
  std::string out = "\"";
  for (const char c : name) out.append(c == '"' ? 2 : 1, c);
  return out + '"';
}

}  // namespace juniper::base
