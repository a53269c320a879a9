// What the generators of the benchmarks' data share.
#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <fstream>
#include <iterator>
#include <random>
#include <string>
#include <utility>

#include "juniper/value.h"

namespace bench {

// A text file that is written in large parts.
class TextFile {
 public:
  explicit TextFile(const std::string& path) : file_(path, std::ios::binary) {}
  ~TextFile() { flush(); }
  TextFile(const TextFile&) = delete;
  TextFile& operator=(const TextFile&) = delete;
  template <class... Values>
  void line(fmt::format_string<Values...> format, Values&&... values) {
    fmt::format_to(std::back_inserter(buffer_), format, std::forward<Values>(values)...);
    buffer_.push_back('\n');
    if (buffer_.size() > std::size_t{1} << 20) flush();
  }

 private:
  void flush() {
    file_.write(buffer_.data(), static_cast<std::streamsize>(buffer_.size()));
    buffer_.clear();
  }
  std::ofstream file_;
  fmt::memory_buffer buffer_;
};

// A number from low to high, both included, the same with every library.
inline std::uint64_t draw(std::mt19937_64& random, std::uint64_t low, std::uint64_t high) {
  using juniper::int128;
  return low + static_cast<std::uint64_t>(static_cast<int128>(random()) * static_cast<int128>(high - low + 1) >> 64);
}

}  // namespace bench
