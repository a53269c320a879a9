// Numbers as they stand in bytes, in this machine's order: little-endian, as all of Parquet is.
#pragma once

#include <cstddef>
#include <cstring>
#include <string_view>

namespace juniper::source::parquet {

// The number whose bytes begin at `at`, all of which must be there.
template <class Number>
Number number_at(std::string_view bytes, std::size_t at) {
  Number number{};
  std::memcpy(&number, bytes.data() + at, sizeof(number));
  return number;
}

}  // namespace juniper::source::parquet
