// The rows of a result in their order: sorted, limited, totals behind the rows that they sum up.
#pragma once

#include <span>
#include <vector>

#include "engine/frame.h"
#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

// The rows of one level: the query's own (the first level, which keeps all `by` columns), or of one total. They are
// chosen among combinations of codes.
struct ArrangedLevel {
  std::vector<std::uint32_t> kept;  // indexes into query.by, ascending
  // Of each combination the codes of all `by` columns, one behind the other; of those that are not kept anything.
  std::vector<std::uint64_t> codes;
  std::vector<VectorPtr> shown;     // one for each shown measure, by combination
  std::vector<std::uint32_t> rows;  // the combinations that the result shows
};

QueryResult arrange(const Source& source, const language::Query& query, std::vector<ArrangedLevel> levels);

// The error for a shown value that does not fit its type, which names its group by the codes of all `by` columns.
Diagnostics overflow_error(const Source& source, const language::Query& query, const language::QueryShow& item,
                           std::span<const std::uint64_t> codes, const std::vector<std::uint32_t>& kept);

}  // namespace juniper::engine
