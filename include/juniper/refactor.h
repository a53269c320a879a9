// Refactorings of a model text, each proved before it is offered.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace juniper {

// Stored values of a calculated column against the expression that stands for them now, over all rows.
struct RowProof {
  std::string column;      // "sessions.gross"
  std::string expression;  // as it is written now, in terms of what stays stored
  bool removed = false;    // false: the column stays, with the new expression
  std::uint64_t rows = 0;  // compared: all of the table
  std::uint64_t differing = 0;
  std::vector<std::string> samples;  // "row 17: stored 3.20, computed 3.21"
};

// A saved query on the model before and after.
struct QueryProof {
  std::string query;
  Comparison comparison;
  std::int64_t before_nanoseconds = 0;  // medians of interleaved runs
  std::int64_t after_nanoseconds = 0;
};

// What the change is worth.
struct Ledger {
  std::uint64_t file_bytes_before = 0;
  std::uint64_t file_bytes_after = 0;
  std::int64_t load_nanoseconds_before = 0;  // as recorded when the store was loaded
  std::int64_t load_nanoseconds_after = 0;   // without what the removed columns took
  struct Column {
    std::string column;
    std::uint64_t bytes = 0;
    std::int64_t nanoseconds = 0;  // computing and encoding it at load
  };
  std::vector<Column> removed;
};

struct Refactoring {
  std::string title;  // "inline sessions.gross"
  std::string model_path;
  std::string text_before;
  std::string text_after;
  std::string diff;  // unified
  std::vector<RowProof> rows;
  std::vector<QueryProof> queries;
  Ledger ledger;

  // True if every row and every query came out the same.
  bool proved() const;
};

// Moves a calculated column into the measures that use it, and removes it from the tables; with it go the calculated
// columns that it was built on, as far as nothing else needs them stored. `column` is "TABLE.COLUMN". Other calculated
// columns that read it keep their values, with its expression written in.
//
// Errors: JR-801 (no such column), JR-802 (not a calculated column), JR-803 (blocked: one error for each thing that
// needs the column stored, at its place in the text: a query that groups or filters by it, a link, a sort order, a use
// declared in the text, an aggregate in its own expression), and those of running the saved queries.
Result<Refactoring> inline_column(const Dataset& dataset, const std::string& column);

// Writes the new text, and the store that goes with it. Refuses what is not proved (JR-804) and a text that has changed
// since (JR-805). Errors: JR-806 (cannot write).
Result<void> write(const Dataset& dataset, const Refactoring& refactoring);

}  // namespace juniper
