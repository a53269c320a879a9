// Data on its way out: the tables of a dataset, and results, as files of open formats.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/overwrite.h"
#include "juniper/sql.h"

namespace [[gnu::visibility("default")]] juniper {

// Decimals, dates and times are such wherever the format has them, with all their digits.
//   parquet   a file for each table: dictionaries, zstd, statistics
//   arrow     a file for each table, of uncompressed record batches
//   csv       a file for each table, as it is read here: null is an empty field, an empty text stands in quotes
//   json      a file for each table, an object on each line
//   sqlite    one database; decimals are numbers where a double tells them, else texts
//   xlsx      one workbook, a sheet for each table; numbers of more than 15 digits are texts
enum class FileForm : std::uint8_t { parquet, arrow, csv, json, sqlite, xlsx };

struct ExportSettings {
  FileForm form = FileForm::parquet;
  std::vector<std::string> tables;  // which ones; none: all
  // A file schema.sql beside the tables, in the words of this engine: tables with their keys and links, and a view for each
  // saved query.
  std::optional<SqlDialect> sql;
};

struct ExportedTable {
  std::string table;
  std::string file;  // its name in the folder
  std::uint64_t rows = 0;
  std::uint64_t columns = 0;
};

struct Export {
  std::string folder;
  std::vector<ExportedTable> tables;
  std::vector<std::string> beside;  // other files that were written
  std::uint64_t bytes = 0;          // of all files
};

// Writes tables of a dataset into a folder, which is made where it is not there: with the rows that are stored, in their
// order, and with calculated columns and tables. A Frictionless data package (datapackage.json) that describes them, with
// keys and links, is written last. Files take their places when they are whole. Files of an earlier export there are
// replaced; anything else is not, unless Options::overwrite of the dataset says so, and what the model is read from never
// is. Errors: JR-204 (no such table), JR-706 (a
// table is broken), JR-009 (it can't be written), JR-011 (something else stands there), JR-523 (what a format can't hold), JR-406
// and others of `sql` for a query that has no statement.
Result<Export> export_tables(const Dataset& dataset, const std::string& folder, const ExportSettings& settings = {});

// Writes a result of a question of a model to a file of the form that its ending names: .parquet, .arrow, .csv, .json, .jsonl, .sqlite, .xlsx. Where the
// query has totals, a first column `level` tells them from rows, as in to_arrow. Errors: JR-009, JR-011, JR-523 (also for another
// ending).
Result<void> write_result(const QueryResult& result, const Model& model, const std::string& path,
                          Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper
