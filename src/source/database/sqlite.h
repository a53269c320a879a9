// SQLite files as a source: a table, or what a query gives.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// A column is found by its name in the table, or in what the query gives. The file is opened for reading alone, and what
// its schema says is not trusted; all tables of a load are read in one transaction. Errors: JR-521 (no SQLite file, no such
// table, a statement that can't be run or is not a query).
RecordKind sqlite_kind();

// The tables and views of a file, in the order of their names. Errors: JR-501, JR-521.
Result<std::vector<std::string>> sqlite_tables(const std::filesystem::path& path);

}  // namespace juniper::source
