// The encoded tables of one model, in memory or mapped from a store file, and that file.
//
// Layout of a store file (.jrs), all little-endian:
//
//   header, 64 bytes
//     char[8]   "JRSTORE\n"
//     uint32    format version, 8
//     uint32    0
//     uint64    bytes of the whole file
//     uint64    offset of the directory
//     uint64    bytes of the directory
//     uint64    XXH3 (64 bits) of the directory
//     uint64    0
//     uint64    XXH3 of the 56 bytes before
//   parts       each begins at a multiple of 8; what it holds is told by the directory
//   directory   tables, columns, links, sources, and where their parts stand (store/directory.h)
//
// A file is written beside its place, synced, and renamed, so that a reader sees the old store or the new one.
#pragma once

#include <cstdint>
#include <filesystem>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/mapped_file.h"
#include "juniper/diagnostics.h"
#include "juniper/model.h"
#include "source/source_file.h"
#include "store/column.h"
#include "store/link.h"

namespace juniper::store {

struct StoredColumn {
  std::string name;
  bool calculated = false;
  std::int64_t evaluate_nanoseconds = 0;  // of a calculated column, when it was loaded
  std::int64_t encode_nanoseconds = 0;
  std::string broken;  // why it could not be computed, and has no rows; "" for a whole one
  Column data;
};

inline constexpr std::uint64_t no_column = std::numeric_limits<std::uint64_t>::max();

struct StoredTable {
  std::string name;
  std::string signature;  // of its source; "" for a calculated table; see loading/signature.h
  std::uint64_t rows = 0;
  std::uint64_t unreached_rows = 0;  // of its files, left out as no link led to them
  std::uint64_t source_bytes = 0;
  std::int64_t read_nanoseconds = 0;
  std::int64_t encode_nanoseconds = 0;  // its part of encoding all sources' columns, several at a time
  std::string broken;                   // why it could not be computed, and has no rows; "" for a whole one
  // Whether a smaller order of the rows was asked for. Where they are sorted, for that or because the text says so: the
  // columns that they are sorted by, "channel, region"; the bytes that this saves, or costs below 0; and the column
  // whose values ascend in the order of the source's rows, or no_column.
  bool order_asked = false;
  std::string order;
  std::int64_t order_saved_bytes = 0;
  std::uint64_t file_order = no_column;
  std::vector<StoredColumn> columns;
};

// Bytes of a store file that belong to no column or link.
struct FileOverhead {
  std::uint64_t header = 0;
  std::uint64_t directory = 0;
  std::uint64_t model_text = 0;
  std::uint64_t padding = 0;
  std::uint64_t total() const { return header + directory + model_text + padding; }
};

// A parameter that stored columns read, and the value that they were computed with, as the text writes it.
struct StoredParameter {
  std::string name;
  std::string value;
};

// Tables and their columns stand in the order of the model that the store was made from, and so do the links.
struct Store {
  std::vector<StoredTable> tables;
  std::vector<StoredLink> links;
  std::vector<source::SourceFile> sources;
  std::string signature;  // of what decides the stored bytes; see loading/signature.h
  std::vector<StoredParameter> parameters;
  std::optional<std::int64_t> today;   // the day of today(), where a stored column reads it
  std::vector<ModelText> model_texts;  // the model's files, named relative to the first one's folder
  std::int64_t load_nanoseconds = 0;
  // Of the file that the store was written to or opened from; zero before.
  std::uint64_t file_bytes = 0;
  FileOverhead overhead;
  std::shared_ptr<const base::OpenFile> file;
};

// Writes a store file. Columns and links may be written ahead, while others are still made; what was not is written in
// the end. Nothing stays of a file that is not finished.
class StoreWriter {
 public:
  // With `finish` the file takes its place, `path`; or it stays beside that place, under another name, for as long as
  // the store lives.
  enum class Place : std::uint8_t { taken, beside };
  explicit StoreWriter(std::filesystem::path path, Place place = Place::taken);
  ~StoreWriter();

  // From any thread. What is large is let go from memory, and viewed in the file from then on. What was written must
  // stay until `finish`, where errors come out.
  void write_ahead(Column& column);
  void write_ahead(Codes& codes);

  // Writes the rest, and syncs and renames a file that takes its place; fills in file_bytes and overhead. Once. Errors: JR-601 (cannot write).
  Result<void> finish(Store& store);

 private:
  class Writer;
  std::filesystem::path path_;
  Place place_;
  std::unique_ptr<Writer> writer_;
};

// Writes the store to `path`; fills in file_bytes and overhead. Errors: JR-601 (cannot write).
Result<void> write_store(Store& store, const std::filesystem::path& path);

// Whether a file that begins so is a store, of whatever version.
bool begins_as_store(std::string_view first_bytes);

// Opens a store file by mapping it. What describes the tables is verified now, their blocks when they are read for the
// first time, so that this takes the same time for every size. The mapping lives as long as any column of it. Errors:
// JR-602 (cannot open), JR-603 (not a store, or truncated), JR-604 (another version), JR-605 (damaged: a checksum
// differs). Reading a damaged block throws a base::Failure with JR-605.
Result<Store> open_store(const std::filesystem::path& path);

// Where the rows of a link of the store lead.
inline LinkRows link_rows(const Store& store, const StoredLink& link) {
  return {link, store.tables[link.table].columns[link.column].data};
}

// The rows of a table's sources that were left out.
std::uint64_t rejected_rows(const Store& store, const StoredTable& table);

// Reads every block of a store on up to `threads` threads; throws a base::Failure with JR-605 at one that is damaged.
void verify(const Store& store, unsigned threads);

}  // namespace juniper::store
