// A file that a table was read from.
#pragma once

#include <cstdint>
#include <string>

namespace juniper::source {

// As it was when it was read.
struct SourceFile {
  std::string table;
  std::string path;
  std::uint64_t bytes = 0;
  std::int64_t modified_nanoseconds = 0;
  std::uint64_t hash = 0;      // XXH3 of its bytes
  std::uint64_t rows = 0;      // that it gave to the table
  std::uint64_t rejected = 0;  // that it did not

  bool operator==(const SourceFile&) const = default;
};

}  // namespace juniper::source
