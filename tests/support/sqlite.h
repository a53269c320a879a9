// SQLite as an independent engine: its own shell reads the files and runs the queries.
#pragma once

#include <string>
#include <vector>

namespace juniper::test {

// Runs a script in the sqlite3 shell over an empty database in memory. Gives the fields of each row that it prints;
// null is "null". The test fails when the shell reports an error.
std::vector<std::vector<std::string>> run_sqlite(const std::string& script);

}  // namespace juniper::test
