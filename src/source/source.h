// What a source of rows is: files of one kind, read by columns into packed pieces. Each kind has a folder, and a line in
// the table in source.cpp; nothing outside of source/ and the first look of scanning/ at a file knows one by name.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/field_part.h"
#include "base/source_place.h"
#include "juniper/diagnostics.h"
#include "source/column_input.h"
#include "source/rejects.h"
#include "source/source_file.h"

namespace juniper::source {

struct ColumnRequest {
  std::string name;    // for messages
  std::string header;  // the name in the file
  Type type;
  base::FieldPart part = base::FieldPart::whole;
};

// What the tables of one load have in common: a database is read in one transaction, so that all of them are of the same
// moment. Used by one thread at a time.
class Connections {
 public:
  struct Connection {
    virtual ~Connection() = default;
  };
  // The connection to a place; it is opened when it is first asked for.
  Connection& of(const std::string& place, const std::function<std::unique_ptr<Connection>()>& open) {
    std::unique_ptr<Connection>& connection = open_[place];
    if (connection == nullptr) connection = open();
    return *connection;
  }

 private:
  std::map<std::string, std::unique_ptr<Connection>> open_;
};

struct TableRequest {
  std::string name;
  std::filesystem::path folder;  // what the place is relative to
  base::SourcePlace place;
  std::vector<ColumnRequest> columns;
};

// How a table is read.
struct ReadSettings {
  unsigned threads = 0;  // 0: one for each core
  // Called from the calling thread, now and then, with the bytes of the files and the rows read so far.
  std::function<void(std::uint64_t bytes, std::uint64_t rows)> progress;
  // Takes the rows that can't be read, which are left out then; nothing: they are errors.
  Rejects* rejects = nullptr;
  // Those of the load; nothing: of this table alone.
  Connections* connections = nullptr;
  // Whether what stands on servers is read again, which nothing tells to be unchanged.
  bool asks_servers = false;
};

// Rows on their way from a source into the store.
struct TableInput {
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;           // of the files
  std::vector<ColumnInput> columns;  // in the order of the request
  std::vector<SourceFile> sources;
};

// The files that a place names, in the order of their names; of a server, its place. Errors: JR-504 (none).
Result<std::vector<std::filesystem::path>> find_files(const TableRequest& request);

// Reads files of a table, one behind the other, on several threads. Every column is found by its name in each file; other
// columns of the files are not read. The rows and the errors do not depend on the number of threads. Errors, up to 20
// with their places: JR-501 (a file can't be read), JR-505 (a column is missing or twice there), JR-507 (a value does not
// fit its type), and those of the kind. Values that do not fit go to the rejects where there are any.
Result<TableInput> read_table(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                              const ReadSettings& settings);

// Where rows (ascending, counted from 0 over all files of the table) stand in the files: their line, or, in a file without
// lines, their number from 1. For messages about rows that are known by number alone; reads the files again.
std::vector<Place> locate_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows);

// A source file as it is now, without its hash; nothing if it can't be looked at. What a database has written beside its
// file counts as part of it.
std::optional<SourceFile> look_at(const TableRequest& request, const std::filesystem::path& path);

// XXH3 of a file's bytes, and of what belongs to it; nothing if it can't be read.
std::optional<std::uint64_t> hash_file(const TableRequest& request, const std::filesystem::path& path);

// --- for the kinds --------------------------------------------------------------------------------------------------

// So many errors are told of one table.
inline constexpr std::size_t most_errors = 20;

// Where each requested column stands among the columns that a file has, by their names; or JR-505 for `file`, in its line
// `line` (0: it has none).
Result<std::vector<std::size_t>> find_columns(const TableRequest& request, const std::vector<std::string>& names,
                                              const std::string& file, std::uint32_t line);

// What a value has to be to fit a column: "a whole number of 64 bits".
std::string expectation(Type type, base::FieldPart part);
// A value of a file as messages quote it, shortened.
std::string quoted_value(std::string_view text);

}  // namespace juniper::source
