// How a question is answered: the steps, with what went in and came out.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// In which way a step is evaluated.
enum class ExplainWay : std::uint8_t {
  query,    // the whole
  scan,     // one pass over a table for the query's rows and its plain aggregates, for all levels
  grouped,  // one pass over a table, grouped by what differs between the slices
  ranged,   // the same, and the groups sorted by a column that is compared by <, <=, > or >=
  loop,     // a frame of its own for the rows of the loop, in which the measures of its body are evaluated once
  rows,     // a set of rows written out
  candidates,  // rows that pass what columns alone tell; further conditions are computed for these, as a frame of their own
  row_by_row,  // pairs of a slice and a row, each looked at: time in proportion to rows times slices
};

// "scan", "row by row"
std::string_view to_string(ExplainWay way);

struct ExplainStep {
  std::uint32_t depth = 0;  // steps that a step needed stand below it, one deeper
  ExplainWay way = ExplainWay::query;
  std::string what;              // the aggregate or set as it is written, or the tables and keys of a scan
  Place place;                   // of that text
  std::uint64_t slices = 0;      // rows of the frame: how many values, or sets, are asked for at once
  std::uint64_t rows_in = 0;     // read from the table
  std::uint64_t rows_out = 0;    // groups, pairs, or rows of the set
  std::uint64_t bytes = 0;       // encoded, of the columns and links that the step reads
  std::int64_t nanoseconds = 0;  // with the steps below it
  std::string note = {};         // what made it cheaper, in plain words; "" for nothing
};

// A statement that the place of a live table was asked.
struct AskedStatement {
  std::string place;  // "postgresql service=charging"
  std::string text;
  std::uint64_t rows = 0;        // that came back
  std::uint64_t bytes = 0;       // of their values
  std::int64_t nanoseconds = 0;  // until they were here
};

struct Explanation {
  std::vector<ExplainStep> steps;  // the first is the query itself
  // What live tables were asked, each statement once. Steps over them have read no rows here.
  std::vector<AskedStatement> statements;
  // Texts of those that were evaluated row by row: what costs time in proportion to rows times slices.
  std::vector<std::string> row_by_row;
};

// Answers a question and tells how. Errors: those of `ask`.
Result<Explanation> explain(const Dataset& dataset, const Question& question);

}  // namespace juniper
