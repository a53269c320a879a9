// A table from CSV files: typed columns ready to be encoded.
#pragma once

#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/field_part.h"
#include "juniper/diagnostics.h"
#include "source/column_input.h"
#include "source/rejects.h"
#include "source/source_file.h"

namespace juniper::source {

struct ColumnRequest {
  std::string name;    // for messages
  std::string header;  // in the file
  Type type;
  base::FieldPart part = base::FieldPart::whole;
};

struct TableRequest {
  std::string name;
  std::filesystem::path folder;  // what the pattern is relative to
  std::string pattern;           // "data/sessions-*.csv": * and ? in the last part of the path
  char delimiter = ',';
  std::vector<ColumnRequest> columns;
};

// The files that a pattern matches, in the order of their names. Errors: JR-504 (none).
Result<std::vector<std::filesystem::path>> find_files(const TableRequest& request);

// How a table is read.
struct ReadSettings {
  unsigned threads = 0;  // 0: one for each core
  // Called from the calling thread, now and then, with the bytes of the files and the rows read so far.
  std::function<void(std::uint64_t bytes, std::uint64_t rows)> progress;
  // Takes the rows that can't be read, which are left out then; nothing: they are errors.
  Rejects* rejects = nullptr;
};

// Rows on their way from a source into the store.
struct TableInput {
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;           // of the files
  std::vector<ColumnInput> columns;  // in the order of the request
  std::vector<SourceFile> sources;
};

// Reads files of a table, one behind the other, in pieces on several threads. Every column is found by its header in
// each file; other columns of the files are not read. The rows and the errors do not depend on the number of threads.
// Errors, up to 20 with their places: JR-501, JR-502 and JR-509 as CsvPieces and CsvRecords, JR-503 (text that is not
// UTF-8), JR-505 (a header is missing or twice there), JR-506 (a record has more or fewer fields than the header),
// JR-507 (a field does not fit its type). JR-503, 506 and 507 go to the rejects where there are any.
Result<TableInput> read_table(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                              const ReadSettings& settings);

// Where rows (ascending, counted from 0 over all files of the table) stand in the files. For messages about rows that
// are known by number alone; reads the files again.
std::vector<Place> locate_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows);

// A source file as it is now, without its hash; nothing if it can't be looked at.
std::optional<SourceFile> look_at(const std::string& table, const std::filesystem::path& path);

// XXH3 of a file's bytes; nothing if it can't be read.
std::optional<std::uint64_t> hash_file(const std::filesystem::path& path);

}  // namespace juniper::source
