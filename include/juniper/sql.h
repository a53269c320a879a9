// Queries as SQL: the statement, and its answer from an independent engine.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// The words in which a statement is written, and the tables that it is over:
//   sqlite      those that `against_sqlite` makes: exact decimals are whole numbers of their last digit, dates are days
//               since 1970-01-01, datetimes and times microseconds, booleans 0 and 1; needs functions that it registers
//   postgresql  tables that hold the model's columns, calculated ones too, under their names: numeric for whole numbers
//               and decimals, double precision, text, boolean, date, timestamp, time. What stands in front of the
//               statement makes functions for the session.
enum class SqlDialect : std::uint8_t { sqlite, postgresql };

// One SQL statement that means what a question means: aggregates are grouped in parts that stand in front (WITH). `sort` and `limit` are not in it: its rows come by level
// and keys. Errors: those of the question's text, as of `ask`.
Result<std::string> sql(const Dataset& dataset, const Question& question, SqlDialect dialect = SqlDialect::sqlite);

// A cell for which two engines give different values.
struct DifferentCell {
  std::string level;  // of the row: "detail", "grand", …
  std::string row;    // its keys: "days.year = 2025"
  std::string column;
  std::string engine;  // exact texts, "null" for null, "no row" where the row is missing
  std::string sqlite;
};

struct Agreement {
  std::string statement;
  std::uint64_t rows = 0;
  std::uint64_t cells = 0;
  std::uint64_t different = 0;
  std::vector<DifferentCell> samples;  // the first few
  std::int64_t engine_nanoseconds = 0;
  std::int64_t sqlite_nanoseconds = 0;  // of the statement, without writing the tables

  bool same() const { return different == 0; }
};

// A dataset's tables in an SQLite database in memory, to ask many questions of. Making it takes time in proportion to
// all rows. Not to be used by two threads at once.
class SqliteTwin {
 public:
  // Errors: JR-705 (SQLite refused a table).
  static Result<SqliteTwin> open(const Dataset& dataset);
  ~SqliteTwin();
  SqliteTwin(SqliteTwin&&) noexcept;
  SqliteTwin& operator=(SqliteTwin&&) noexcept;

  // Runs the question's statement there, and compares every cell with the engine's answer (without the question's
  // `limit`): exact types exactly, reals to 1e-9 of their size. Rows that are compared with each other within a loop may
  // take far longer than in the engine; Options::cancelled and Options::memory hold for both. Errors: those of `ask`;
  // JR-705 (SQLite refused the statement); JR-711 (SQLite had no answer after two minutes).
  Result<Agreement> compare(const Question& question);

 private:
  struct State;
  explicit SqliteTwin(std::unique_ptr<State> state);
  std::unique_ptr<State> state_;
};

// The same for one question.
Result<Agreement> against_sqlite(const Dataset& dataset, const Question& question);

}  // namespace juniper
