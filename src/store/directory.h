// The directory of a store file: everything but the parts that it points to. Layout of its bytes, little-endian, one
// field behind the other without padding, in the order in which the structures below have them:
//
//   number   8 bytes; signed ones in two's complement
//   text     the number of its bytes, then its bytes
//   list     the number of its items, then the items
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "source/source_file.h"

namespace juniper::store {

// Where a part stands in the file. The hash is that of the directory of blocks that a part begins with, or of all of it
// for a model text.
struct PartEntry {
  std::uint64_t offset = 0;
  std::uint64_t bytes = 0;
  std::uint64_t hash = 0;
};

struct ParameterEntry {
  std::string name;
  std::string value;
};

struct ModelTextEntry {
  std::string name;
  PartEntry text;
};

struct ColumnEntry {
  std::string name;
  std::uint64_t calculated = 0;  // 0 or 1
  std::int64_t evaluate_nanoseconds = 0;
  std::int64_t encode_nanoseconds = 0;
  std::string broken;      // why it has no rows; "" for a whole one, and so in tables and links
  std::uint64_t type = 0;  // boolean, integer, decimal, real, text, date, datetime, time, from 0
  std::uint64_t scale = 0;
  std::uint64_t layout = 0;  // dictionary, offset, bits, from 0
  std::uint64_t distinct = 0;
  std::uint64_t nulls = 0;
  std::int64_t base = 0;
  std::uint64_t step = 0;
  std::uint64_t null_code = 0;
  std::string least;  // values as text; "" where there are none
  std::string most;
  std::string encoding;
  PartEntry codes;
  std::uint64_t smallest = 0;  // of a dictionary of numbers
  PartEntry dictionary;        // of layout dictionary; zeros for others
};

struct TableEntry {
  std::string name;
  std::string signature;
  std::uint64_t rows = 0;
  std::uint64_t unreached_rows = 0;
  std::uint64_t source_bytes = 0;
  std::int64_t read_nanoseconds = 0;
  std::int64_t encode_nanoseconds = 0;
  std::string broken;
  std::uint64_t order_asked = 0;  // 0 or 1
  std::string order;
  std::int64_t order_saved_bytes = 0;
  std::uint64_t file_order = 0;  // a column, counted from 0; all bits set where there is none
  std::vector<ColumnEntry> columns;
};

struct LinkEntry {
  std::string name;
  std::uint64_t table = 0;  // the many side and the first column of its key, counted from 0
  std::uint64_t column = 0;
  std::uint64_t form = 0;  // by row, by code, codes are rows, from 0
  std::uint64_t rows = 0;
  std::uint64_t no_row = 0;
  std::uint64_t unmatched = 0;
  std::int64_t resolve_nanoseconds = 0;
  std::string encoding;
  std::string broken;
  PartEntry codes;
};

struct Directory {
  std::string signature;
  std::int64_t load_nanoseconds = 0;
  std::vector<ParameterEntry> parameters;
  std::uint64_t reads_today = 0;  // 0 or 1
  std::int64_t today = 0;         // in days since 1970-01-01, where it is read
  std::vector<ModelTextEntry> model_texts;
  std::vector<TableEntry> tables;
  std::vector<LinkEntry> links;
  std::vector<source::SourceFile> sources;
};

std::vector<std::byte> to_bytes(const Directory& directory);
// Nothing if the bytes are not the whole of a directory.
std::optional<Directory> read_directory(std::span<const std::byte> bytes);

}  // namespace juniper::store
