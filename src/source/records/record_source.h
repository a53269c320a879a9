// Records with cells of their own types, one piece after the other: what a kind of source gives that is neither CSV nor
// Parquet. A kind is a RecordSource; records/table.h makes tables of it.
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "source/records/cells.h"
#include "source/source.h"

namespace juniper::source {

// About so many rows a piece should have, where a kind may choose.
inline constexpr std::size_t rows_of_record_piece = std::size_t{1} << 13;
// A piece ends at so many bytes of texts, too.
inline constexpr std::uint64_t bytes_of_record_piece = std::uint64_t{1} << 22;

// Some records that were cut off, not yet read or read already.
class RecordPiece {
 public:
  virtual ~RecordPiece() = default;
  // Their cells; called once. Throws a base::Failure.
  virtual Cells read() = 0;
};

// A piece that its source has read.
class ReadRecords : public RecordPiece {
 public:
  explicit ReadRecords(Cells cells) : cells_(std::move(cells)) {}
  Cells read() override { return std::move(cells_); }

 private:
  Cells cells_;
};

// One file, sheet, table or statement, open. All throw a base::Failure.
class RecordSource {
 public:
  virtual ~RecordSource() = default;
  // The next piece; nothing at the end. Used by one thread at a time; what it gives may be read on another one, as long
  // as the source and its request are there.
  virtual std::unique_ptr<RecordPiece> next() = 0;
  virtual std::uint64_t bytes_read() const = 0;
  // At the end: the bytes and the hash of what was read.
  virtual void finish(SourceFile& source) const = 0;
};

// A column as the source names it, with what it has of types.
struct RecordColumn {
  std::string name;
  std::optional<Type> type;  // where the source tells one that all values have
};

// What a kind of source can do.
struct RecordKind {
  // Opens a file or place. Errors (thrown): JR-501, JR-505 for columns that are not there, and those of the kind.
  std::unique_ptr<RecordSource> (*open)(const TableRequest& request, const std::filesystem::path& path,
                                        Connections* connections);
  // The columns that a source has, in its order; of one that has no list of them, those of all records.
  std::vector<RecordColumn> (*columns)(const TableRequest& request, const std::filesystem::path& path);
  bool counts_rows;  // its places are numbers of rows, not lines
};

// The kinds that are such; nothing for others. (In source.cpp, which knows all kinds.)
std::optional<RecordKind> record_kind(base::SourceKind kind);

}  // namespace juniper::source
