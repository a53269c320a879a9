// Where the difference between two values of a measure comes from.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

// Of a column's values, the few that carry nearly all of a difference.
struct DifferenceSource {
  std::string column;               // "tariffs.plan"
  std::vector<std::string> values;  // the largest first, with how much each carries: "night: -12.50"
  std::uint64_t of_values = 0;      // how many values the column has
  double share = 0;                 // of the sum of all differences, without regard to their sign
};

// A row, within the values of the sources, with what the measure is for it alone.
struct DifferenceRow {
  std::vector<Value> cells;  // one for each of the columns
  Value base;
  Value other;
};

struct Narrowing {
  std::string measure;
  // The columns that tell most about the difference, the one whose values are fewest first; each within the values of
  // those before it. Empty when nothing differs, or when the measure is no number.
  std::vector<DifferenceSource> sources;
  // The five rows that carry most of it: of a table that the measure aggregates, its key first, then the first few
  // columns that the two definitions read. Empty where there is no such table with a key and at most 5,000,000 rows.
  std::vector<ResultColumn> row_columns;  // the last two are the measure, on either side
  std::vector<DifferenceRow> rows;
};

}  // namespace juniper
