// Refactorings of a model text, proved before they are offered.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/narrowing.h"
#include "juniper/speed.h"

namespace [[gnu::visibility("default")]] juniper {

// What is stored in a column against what stands for it, over all rows of its table.
struct RowProof {
  std::string column;      // "sessions.gross"; "cards" where it is about a table's rows
  std::string expression;  // what it is compared with: an expression over what stays stored, or what became of it
  std::string query;  // that counts the rows that differ, where a query can; to be asked of the model after, unless
  bool asked_before = false;  // `query` is for the model before
  bool removed = false;       // false: the column stays, or is new
  std::uint64_t rows = 0;     // compared: all of the table
  std::uint64_t differing = 0;
  std::vector<std::string> samples;  // "row 17: stored 3.20, computed 3.21"
};

// A saved or captured query, or a probe, on the model before and after.
struct QueryProof {
  std::string query;
  Comparison comparison;
  bool is_captured = false;  // it is told by the place of a captured query
  bool is_timed = false;     // a saved query, or one of the most frequent captured ones, that reads what has changed
  SpeedComparison speed;     // before and after, in turn, where it is timed
};

// Queries made up for the proof: the measures that the change can reach, by columns, pairs of columns and filters.
struct ProbeProof {
  std::vector<std::string> measures;
  std::uint64_t possible = 0;         // probes that there are for these measures
  std::uint64_t asked = 0;            // of them, before and after
  std::uint64_t sample_rows = 0;      // of each large table that they are asked over; 0 for all
  std::uint64_t asked_of_all = 0;     // over all rows: the first, and those that differ over the sample
  std::uint64_t refused = 0;          // of those asked, with the same error before and after
  std::uint64_t cells = 0;            // compared
  std::uint64_t rows_read = 0;        // by all of them
  std::uint64_t wide_columns = 0;     // columns left out, as they have more values than RefactorSettings allows
  std::vector<QueryProof> differing;  // the first few that came out otherwise
  bool cut_short() const { return asked < possible; }
};

// A question that SQLite answered, too: a saved query on the model after, or the query of a row proof.
struct SqliteProof {
  std::string query;
  std::uint64_t cells = 0;      // compared
  std::uint64_t different = 0;  // of them
};

// Bytes of a store by what they are for.
struct BytesByPart {
  std::uint64_t dictionaries = 0;
  std::uint64_t codes = 0;
  std::uint64_t links = 0;
  std::uint64_t rest = 0;  // what belongs to no table: header, directory, model text, padding
  std::uint64_t total() const { return dictionaries + codes + links + rest; }
};

// What the change is worth.
struct Ledger {
  BytesByPart bytes_before;
  BytesByPart bytes_after;
  // What loading everything takes: each table, calculated column and link as it took when it was last loaded.
  std::int64_t load_nanoseconds_before = 0;
  std::int64_t load_nanoseconds_after = 0;
  struct Column {
    std::string column;
    std::uint64_t bytes = 0;
    std::int64_t nanoseconds = 0;  // computing and encoding it at load
  };
  std::vector<Column> removed;
  std::vector<Column> added;  // new, or stored in another way
};

// A file of the model text.
struct TextChange {
  std::string path;
  std::string before;
  std::string after;
};

struct Refactoring {
  std::string title;               // the steps, in the order in which they were carried out
  std::vector<std::string> steps;  // "inline sessions.gross"
  std::vector<std::string> notes;  // what is left out, went with another step, or is told otherwise now
  std::vector<TextChange> texts;   // the model's files, the first one first
  std::string diff;                // unified
  Tolerance tolerance;             // of reals in results: to the bit, but where rows were put in another order
  std::vector<RowProof> rows;
  std::vector<QueryProof> queries;     // every saved one, then the captured ones that the change reaches
  std::uint64_t captured = 0;          // queries of ReadOptions::captured that are understood
  std::uint64_t captured_reached = 0;  // of them, by the change
  std::uint64_t captured_asked = 0;  // of these: all, or the most frequent ones; notes tell which gave no answer before
  ProbeProof probes;
  std::vector<SqliteProof> sqlite;     // where RefactorSettings::against asks for it
  std::vector<Narrowing> differences;  // of the first few measures that differ, where it comes from
  Ledger ledger;
  std::optional<Dataset> after;  // the changed model over its data

  // True if every row, every query and every probe came out the same, and SQLite agrees, if it was asked.
  bool proved() const;
};

enum class Against : std::uint8_t { nothing, sqlite };

struct RefactorSettings {
  std::uint64_t most_probes = 200;  // asked, in an order in which those that show most come first
  // Rows that probes may read in all, before and after, but for the first 40: large models take seconds and not hours.
  std::uint64_t most_probe_rows = 600'000'000;
  // Probes are asked over so many rows of a table that has more; every row of each column that changes is compared in any
  // case. What differs there is asked again over all rows.
  std::uint64_t sample_rows = 10'000;
  std::uint64_t most_values = 2000;    // of a column that probes group by
  Plan row_plan = Plan::engine;        // how rows are proved: naive takes long, and shares nothing with the engine
  Against against = Against::nothing;  // what else is to agree with each saved query and each row proof
  // Captured queries that the change reaches, asked before and after: those that were asked most.
  std::uint64_t most_captured = 200;
  // That no query counts but those that the model has saved and ReadOptions::captured. Else `apply_remedies` without codes
  // drops nothing that merely none of these uses.
  bool queries_are_known = false;
  // Of the times of each query that the change reaches. One run of each side will do where it takes long.
  SpeedSettings timing = {1.1, 0.99, 0.04, 15, 1, 200, 1, 3'000'000};
};

// Carries out a plan, one or more steps one behind the other:
//
//   inline TABLE.COLUMN              a calculated column moves into the measures that use it; with it go the calculated
//                                    columns that it was built on, as far as nothing else needs them stored
//   store TABLE.NAME = EXPRESSION    what measures compute row by row becomes a calculated column
//   split TABLE.COLUMN [into (DATE, TIME)]   a timestamp of the source becomes a date and a time of day
//   retype TABLE.COLUMN TYPE         a source's column gets a type that holds the same values
//   round TABLE.COLUMN TYPE          … or a type with fewer digits
//   drop TABLE.COLUMN, drop MEASURE  what nothing uses goes
//   relink TABLE.COLUMN              a link by values that are put together becomes one by what they are made from
//   trim TABLE                       rows that no link leads to are left out at load: `reached from`
//   reorder TABLE by (COLUMN, …)     its rows are sorted at load: `sorted by`
//
// in an order that works, on the text and on a copy of the data, and proves it: all rows of each column that steps
// touch, all saved and captured queries (ReadOptions::captured), and probes. Nothing is written. Texts are edited where they must be; comments and layout
// stay. The sources are read and never touched.
//
// Errors: JR-807 (not a plan), JR-801 (no such column or measure), JR-802 (a column that the step is not for), JR-803
// (blocked: one error for each thing that is in the way, at its place in the text), and those of loading the changed
// model and of running the saved queries.
Result<Refactoring> refactor(const Dataset& dataset, const std::string& plan, const RefactorSettings& settings = {});

// Carries out the steps that the audit's findings name (Finding::step), of the rules with these codes, of all when
// there are none. What is mended may bring out more: it is looked for again until there is nothing new. A step that is
// blocked, or whose rows would differ, is left out, with a note; so is one that drops what merely no known query uses,
// where no codes are given and it is not known that these are all (RefactorSettings::queries_are_known). Errors: JR-008 (no such rule), JR-808 (nothing to do),
// and those of `refactor`.
Result<Refactoring> apply_remedies(const Dataset& dataset, const std::vector<std::string>& codes = {},
                                   const RefactorSettings& settings = {});

// Writes the new texts, and the store that goes with them. Refuses what is not proved (JR-804) and a text that has
// changed since (JR-805). Errors: JR-806 (cannot write), JR-601 (cannot write the store).
Result<void> write(const Dataset& dataset, const Refactoring& refactoring);

}  // namespace juniper
