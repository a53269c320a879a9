// A first model text from source files: tables, types, keys, links and the calendar, proposed from what the files hold.
#pragma once

#include <string>
#include <vector>

#include "juniper/dataset.h"

namespace [[gnu::visibility("default")]] juniper {

struct ScannedTable {
  std::string table;
  std::string source;  // the pattern of its files, relative to the model text
  std::uint64_t files = 0;
  std::uint64_t rows = 0;
  std::uint64_t columns = 0;
  std::string key;          // "" if no column is one
  std::uint64_t links = 0;  // that start here
};

struct Scan {
  std::string text;  // the model text, in the one layout; it loads as it is
  std::vector<ScannedTable> tables;
};

// Looks at files of CSV (plain, gzip or zstd), Parquet, Arrow, JSON, spreadsheets and SQLite, at all of them in a folder, or at a
// Frictionless Data Package (the file datapackage.json, or a folder that holds it), whose types, keys and foreign keys are
// taken over where the data agrees. A file of a folder that can't be read is told in a comment; one that is named is an
// error. Every row is read: a column has its file's type, or, where that tells none, the narrowest that all its values have, a key is a
// column without nulls that is different in every row, and a link leads from a column to another table's key whose
// name it speaks of, if most of its values are found there, or, whatever the names, if nearly all of them are and that can
// hardly be chance. Two or three columns that tell rows apart together are linked by their names, and datetimes by their
// days to a calendar. What is doubtful, and which files of a folder are left out,
// stands in comments. `text_folder` is where the text will stand: its sources are relative to it. Errors: those of reading
// a table, JR-512 (there is nothing to read), JR-513 (the description of the package can't be read).
Result<Scan> scan(const std::vector<std::string>& paths, const std::string& text_folder = ".",
                  const Options& options = {});

// Writes the text to a file that is not there yet. Errors: JR-514.
Result<void> write_new(const Scan& scan, const std::string& path);

}  // namespace juniper
