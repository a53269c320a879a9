// Queries over a dataset.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

struct ResultColumn {
  std::string name;
  Type type;
  std::string format;   // a pattern for people; "" for none
  bool is_key = false;  // a `by` column
};

struct ResultRow {
  std::vector<Value> cells;  // one for each column; null in the keys that a total does not keep
  std::uint32_t level = 0;   // 0 for the query's own rows, else an index into QueryResult::levels
};

struct QueryResult {
  std::string title;
  std::vector<ResultColumn> columns;  // keys first
  std::vector<ResultRow> rows;        // in the query's order; totals follow the rows that they sum up
  // "detail", then one name for each total: "grand", "days.year", "(days.year, stations.region)"
  std::vector<std::string> levels;
  // For each level, which of the key columns it keeps.
  std::vector<std::vector<bool>> kept;
  std::int64_t nanoseconds = 0;    // spent in evaluating
  std::uint64_t rows_scanned = 0;  // over all passes, here
  std::uint64_t statements = 0;    // that live tables were asked
  std::uint64_t rows_moved = 0;    // that came back from there
  Diagnostics warnings;            // of the question's text, and of days that the calendar lacks in which it moves
  std::vector<std::string> notes;  // what the rows alone do not say: that ties at a cut were kept

  // The place of the column with that name among `columns`; nothing if there is none.
  std::optional<std::size_t> find(std::string_view column) const;
  // A cell by its row, which must be there, and the name of its column; nothing if there is no such column, and what
  // to_double and to_text give for it.
  const Value* cell(std::size_t row, std::string_view column) const;
  std::optional<double> number(std::size_t row, std::string_view column) const;
  std::optional<std::string> text(std::size_t row, std::string_view column) const;
};

// How a question is answered: by the engine, or row by row, slice by slice, by an evaluator too simple to be wrong,
// which takes time in proportion to rows times slices.
enum class Plan : std::uint8_t { engine, naive };

// What to ask: a saved query's name, or the clauses of a query ("by stations.region show revenue"), and conditions
// joined to its own by `and`.
struct Question {
  std::string query;
  std::vector<std::string> where = {};
  std::vector<std::string> drafts = {};  // "measure revenue = …": definitions for this question alone
  Plan plan = Plan::engine;
};

// Answers a question. Errors: JR-1xx to JR-4xx for its text, JR-701 (a result does not fit its type; names the column
// and the group), JR-702 (there is no such saved query), JR-703 (keys too wide to group by together), JR-707 (called
// off by Options::cancelled), JR-708 (more memory than Options::memory).
Result<QueryResult> ask(const Dataset& dataset, const Question& question);

// Answers a question from the files that a model names, row by row and slice by slice, without a store: everything is
// read, linked and computed anew, by nothing that loads or asks one. It shows whether a store holds what the files say;
// it takes time in proportion to rows times slices. Of the options, it heeds `today`, `cancelled` and `memory`. Errors:
// those of ask, JR-501 to JR-507 of the files, JR-704 (a calculated value does not fit), JR-706 (a link's one side holds
// a key twice).
Result<QueryResult> ask_files(const Model& model, const Question& question, const Options& options = {});

}  // namespace juniper
