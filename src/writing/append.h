// Numbers on their way into bytes, in this machine's order: little-endian, as the formats have them.
#pragma once

#include <cstring>
#include <string>

namespace juniper::writing {

template <class Number>
void append(std::string& out, Number number) {
  out.resize(out.size() + sizeof(Number));
  std::memcpy(out.data() + out.size() - sizeof(Number), &number, sizeof(Number));
}

}  // namespace juniper::writing
