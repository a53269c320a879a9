// An expression over all rows of a table: calculated columns, and proofs about them.
#pragma once

#include "engine/program.h"
#include "juniper/diagnostics.h"

namespace juniper::engine {

// Evaluates `node`, whose columns are seen from `table`, for each row. Aggregates in it are evaluated first, in the
// empty slice: over all rows of their tables. The vector owns or shares whatever its texts view. Errors: JR-701 (such
// an aggregate overflows).
struct RowValues {
  std::unique_ptr<Program> program;  // keeps what texts view
  Vector values;
};
Result<RowValues> evaluate_rows(const Source& source, language::TableIndex table, const language::NodePtr& node,
                                unsigned threads);

}  // namespace juniper::engine
