// What a Parquet file says of itself, as the standard has it (apache/parquet-format, parquet.thrift): the schema, row
// groups with their column chunks, and the head of each page. Read with Thrift's compact protocol; what is not needed is
// passed over.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace juniper::source::parquet {

// Numbers are those of the standard.
enum class Physical : std::int32_t {
  boolean = 0,
  int32 = 1,
  int64 = 2,
  int96 = 3,
  real32 = 4,
  real64 = 5,
  bytes = 6,
  fixed_bytes = 7
};
enum class Codec : std::int32_t {
  none = 0,
  snappy = 1,
  gzip = 2,
  lzo = 3,
  brotli = 4,
  lz4_framed = 5,
  zstd = 6,
  lz4 = 7
};
enum class Encoding : std::int32_t {
  plain = 0,
  plain_dictionary = 2,
  rle = 3,
  bit_packed = 4,
  delta_numbers = 5,
  delta_lengths = 6,
  delta_bytes = 7,
  rle_dictionary = 8,
  split_bytes = 9
};
enum class PageType : std::int32_t { data = 0, index = 1, dictionary = 2, data_v2 = 3 };

// What a value means beside its bytes.
enum class Meaning : std::uint8_t {
  none,
  text,
  decimal,
  date,
  time,
  moment,  // date and time of day
  signed_number,
  unsigned_number,
  uuid,
  half_real,
  nothing,  // every value is null
  list,
  map,
  interval
};
enum class TimeUnit : std::uint8_t { milliseconds, microseconds, nanoseconds };

struct SchemaElement {
  std::string name;
  std::optional<Physical> type;  // of a leaf
  std::int32_t length = 0;       // of fixed_bytes
  std::int32_t repetition = 0;   // 0 required, 1 optional, 2 repeated
  std::int32_t children = 0;
  Meaning meaning = Meaning::none;
  TimeUnit unit = TimeUnit::microseconds;
  std::int32_t scale = 0;
  std::int32_t bits = 0;  // of a whole number: 8, 16, 32 or 64; 0: as many as its bytes have
};

struct ColumnChunk {
  Codec codec = Codec::none;
  std::int64_t values = 0;
  std::int64_t bytes = 0;  // of all its pages, compressed
  std::int64_t first_page = 0;
  std::optional<std::int64_t> dictionary_page;
  bool is_elsewhere = false;  // in another file
  bool is_encrypted = false;
};

struct RowGroup {
  std::vector<ColumnChunk> columns;
  std::int64_t rows = 0;
};

struct FileData {
  std::vector<SchemaElement> schema;  // the root, then depth first
  std::vector<RowGroup> groups;
  std::int64_t rows = 0;
  bool is_encrypted = false;
};

struct PageHead {
  PageType type = PageType::data;
  std::int32_t bytes = 0;            // as they stand in the file
  std::int32_t bytes_unpacked = 0;   // once decompressed, with the levels
  std::optional<std::uint32_t> sum;  // CRC-32 of the bytes in the file
  std::int32_t values = 0;           // with nulls
  Encoding encoding = Encoding::plain;
  Encoding level_encoding = Encoding::rle;
  std::int32_t definition_bytes = 0;  // of version 2: of the levels, which stand in front and are never compressed
  std::int32_t repetition_bytes = 0;
  bool is_compressed = true;
  std::size_t head_bytes = 0;  // of the head itself
};

// What can't be read throws a std::exception: apache::thrift's, or std::runtime_error with what is wrong.
FileData read_file_data(std::string_view bytes);
// From the head of a page; `bytes` may go on behind it.
PageHead read_page_head(std::string_view bytes);

}  // namespace juniper::source::parquet
