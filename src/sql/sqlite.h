// An SQLite database in memory: the tables of a dataset, the functions that SQLite has none of, and queries over them.
#pragma once

#include <chrono>
#include <memory>
#include <string>
#include <vector>

#include "engine/asked/watch.h"
#include "engine/program/program.h"
#include "juniper/diagnostics.h"
#include "juniper/value.h"

struct sqlite3;

namespace juniper::sql_engine {

class Sqlite {
 public:
  // Opens an empty database that has the functions of sql/sqlite_functions.h.
  static Result<Sqlite> open();

  // Writes the rows of a table with all its columns, as sql/translate.h says.
  Result<void> add_table(const engine::Source& source, language::TableIndex table);

  // Runs one statement that gives rows, for so long at most. The cells are read as values of `types`, by column. Errors:
  // JR-705, JR-711 (no answer in time), and those of `watch`.
  Result<std::vector<std::vector<Value>>> run(const std::string& statement, const std::vector<Type>& types,
                                              const engine::Watch& watch,
                                              std::chrono::milliseconds longest = std::chrono::minutes(2));

 private:
  struct Close {
    void operator()(sqlite3* database) const;
  };
  explicit Sqlite(std::unique_ptr<sqlite3, Close> database) : database_(std::move(database)) {}
  Result<void> execute(const std::string& statement);
  tl::unexpected<Diagnostics> error(const std::string& statement) const;

  std::unique_ptr<sqlite3, Close> database_;
};

}  // namespace juniper::sql_engine
