// The rows of a result in their order: sorted, limited, totals behind the rows that they sum up.
#pragma once

#include <vector>

#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

// Codes of all `by` columns for one row of the result; those that a level does not keep are not looked at.
using Combination = std::vector<std::uint64_t>;

struct ArrangedRow {
  Combination codes;
  std::vector<Value> shown;
};

// The rows of one level: the query's own (the first level, which keeps all `by` columns), or of one total.
struct ArrangedLevel {
  std::vector<std::uint32_t> kept;  // indexes into query.by, ascending
  std::vector<ArrangedRow> rows;
};

QueryResult arrange(const Source& source, const language::Query& query, std::vector<ArrangedLevel> levels);

// The error for a shown value that does not fit its type, which names its group.
Diagnostics overflow_error(const Source& source, const language::Query& query, const language::QueryShow& item,
                           const Combination& codes, const std::vector<std::uint32_t>& kept);

// The codes of some keys as bytes, to be looked up by.
std::string bytes_of(const Combination& codes, const std::vector<std::uint32_t>& keys);

}  // namespace juniper::engine
