// Results for programs that speak Arrow: through its C data interface, which shares memory within a process without
// copying and without a library. The two structures are those of the standard
// (https://arrow.apache.org/docs/format/CDataInterface.html), word for word in layout; where another header has declared
// them already, they are taken from there.
#pragma once

#include <cstdint>

#include "juniper/ask.h"
#include "juniper/diagnostics.h"

#ifndef ARROW_C_DATA_INTERFACE
#define ARROW_C_DATA_INTERFACE

#define ARROW_FLAG_DICTIONARY_ORDERED 1
#define ARROW_FLAG_NULLABLE 2
#define ARROW_FLAG_MAP_KEYS_SORTED 4

extern "C" {

struct ArrowSchema {
  const char* format;
  const char* name;
  const char* metadata;
  std::int64_t flags;
  std::int64_t n_children;
  struct ArrowSchema** children;
  struct ArrowSchema* dictionary;
  void (*release)(struct ArrowSchema*);
  void* private_data;
};

struct ArrowArray {
  std::int64_t length;
  std::int64_t null_count;
  std::int64_t offset;
  std::int64_t n_buffers;
  std::int64_t n_children;
  const void** buffers;
  struct ArrowArray** children;
  struct ArrowArray* dictionary;
  void (*release)(struct ArrowArray*);
  void* private_data;
};

}  // extern "C"

#endif  // ARROW_C_DATA_INTERFACE

namespace [[gnu::visibility("default")]] juniper {

// Writes a result as a struct array: a child for each column, behind a first one, `level`, that tells totals from rows
// ("detail", "grand", …; it is called `level_` where the query has a column of that name).
//
//   boolean             b        bits
//   integer             l        int64
//   decimal(s)          d:38,s   128 bits
//   real                g        float64
//   text                U        UTF-8 with offsets of 64 bits
//   date                tdD      int32, days since 1970-01-01
//   datetime            tsu:     int64, microseconds since 1970-01-01 00:00:00, no zone
//   time                ttu      int64, microseconds since midnight
//
// `schema` and `array` are overwritten. Whoever takes them calls their `release` when they are no longer needed; they
// hold copies, and so outlive the result. May be called from any thread; release from any, once. Errors, after which
// both are released already: JR-709 (a whole number beyond 64 bits, or a decimal of more than 38 digits).
Result<void> to_arrow(const QueryResult& result, ArrowSchema& schema, ArrowArray& array);

}  // namespace juniper
