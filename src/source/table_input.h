// Rows on their way from a source into the store.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/value.h"

namespace juniper::source {

// One column. Only the vector of its type is used.
struct ColumnInput {
  Type type;
  std::vector<std::int64_t> exact;  // all types but real and text, as in juniper/value.h
  std::vector<double> real;
  std::vector<std::uint32_t> text;      // indexes into `texts`
  std::vector<std::string_view> texts;  // in any order; one text may stand there several times
  std::shared_ptr<const void> owner;    // of what `texts` views, if the caller does not keep it alive
  std::vector<std::uint8_t> is_null;    // one for each row; the value beside it does not matter
};

// A source file as it was when it was read.
struct SourceFile {
  std::string table;
  std::string path;
  std::uint64_t bytes = 0;
  std::int64_t modified_nanoseconds = 0;
  std::uint64_t hash = 0;  // XXH3 of its bytes
  std::uint64_t rows = 0;  // that it gave to the table

  bool operator==(const SourceFile&) const = default;
};

}  // namespace juniper::source
