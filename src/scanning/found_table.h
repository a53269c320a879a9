// What the files of one table hold.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "source/source.h"
#include "store/column.h"

namespace juniper::scanning {

// Files that are to be one table, and what a description says of them.
struct TableFiles {
  std::string name;
  std::filesystem::path pattern;  // matches all its files and no other
  std::vector<std::filesystem::path> files;
  base::SourceKind kind = base::SourceKind::csv;
  base::Selection selection;
  std::optional<char> delimiter;
  std::vector<std::string> text_columns;  // headers of columns that are declared to be texts
  std::vector<std::string> key;           // declared headers
  struct Reference {
    std::vector<std::string> columns;
    std::string table;  // "" for itself
    std::vector<std::string> to;
  };
  std::vector<Reference> references;
};

struct FoundColumn {
  std::string header;
  std::string name;     // as the model calls it
  std::string comment;  // what is doubtful; "" for nothing
  base::FieldPart part = base::FieldPart::whole;
  store::Column data;

  bool could_be_key() const {
    return data.rows > 0 && data.distinct == data.rows && data.type.kind != TypeKind::real &&
           data.type.kind != TypeKind::boolean;
  }
};

struct FoundTable {
  TableFiles files;
  std::string name;
  char delimiter = ',';
  base::Spelling spelling;
  std::string encoding;  // of CSV; "" for UTF-8
  std::uint64_t rows = 0;
  std::vector<FoundColumn> columns;
  std::vector<std::string> comments;
};

// The name of a file as a pattern that no other file's name fits.
std::string pattern_of(const std::string& file);

// Takes a file that can't be read, and why.
using Unreadable = std::function<void(const std::filesystem::path&, const Diagnostics&)>;

// The tables that files make: those of one kind and the same columns whose names differ in digits alone are one, and each
// table of a database and each sheet of a spreadsheet is one.
std::vector<TableFiles> group_files(std::vector<std::filesystem::path> files, const Unreadable& unreadable);

// Finds out the kind and the delimiter of files that somebody else has described.
void tell_kind(TableFiles& files);

// Whether a file is of a kind that is read here, as far as its name tells.
bool may_be_table(const std::string& file);

// Reads all rows, of files without types to find these and once more, to count the values. Errors: as in reading a table.
Result<FoundTable> read_found_table(const TableFiles& files, const Options& options);

}  // namespace juniper::scanning
