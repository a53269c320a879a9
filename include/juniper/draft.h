// Another definition of a measure beside the present one, touching nothing.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace juniper {

struct DraftedQuery {
  std::string query;  // a saved query's name, or its clauses
  QueryResult base;
  QueryResult draft;
  Comparison comparison;              // of the draft with the base
  std::int64_t base_nanoseconds = 0;  // medians of runs in turn
  std::int64_t draft_nanoseconds = 0;
};

// Where a difference comes from: of a column's values, the few that carry nearly all of it.
struct DraftSource {
  std::string column;               // "tariffs.plan"
  std::vector<std::string> values;  // the largest first, with how much each carries: "night: -12.50"
  std::uint64_t of_values = 0;      // how many values the column has
  double share = 0;                 // of the sum of all differences, without regard to their sign
};

// Rows, within the values of `sources`, with what the measure is for each of them alone.
struct DraftRow {
  std::vector<Value> cells;  // one for each of the columns
  Value base;
  Value draft;
};

struct Draft {
  std::string measure;
  std::string before;      // the present definition as it is written; "" for a new measure
  std::string definition;  // and the draft's
  std::vector<DraftedQuery> queries;
  // The columns that tell most about the difference, the one whose values are fewest first; each within the values of
  // those before it. Empty when nothing differs, or when it is no number.
  std::vector<DraftSource> sources;
  // The five rows that carry most of it: of a table that the measure aggregates, its key first, then the first few
  // columns that the two definitions read. Empty where there is no such table with a key and at most 5,000,000 rows.
  std::vector<ResultColumn> row_columns;  // the last two are the measure, as it is and as the draft defines it
  std::vector<DraftRow> rows;

  bool same() const;
};

// Runs queries with the measure as it is and as `text` ("measure revenue = …") defines it. Without `queries`, every
// saved query that depends on the measure. Errors: those of the texts, as of `ask`; JR-703 and the like of running
// them.
Result<Draft> draft(const Dataset& dataset, const std::string& text, const std::vector<std::string>& queries = {});

// Writes the draft's definition in the place of the present one, or a new measure at the end of the first file;
// comments and layout stay. Errors: JR-805 (the text on the disk is no longer the model's), JR-806 (it can't be
// written).
Result<void> keep(const Dataset& dataset, const Draft& draft);

}  // namespace juniper
