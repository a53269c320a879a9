// Expressions over all rows of a table: calculated columns and tables, and proofs about them.
#pragma once

#include "engine/frame/evaluator.h"
#include "engine/program/program.h"
#include "juniper/diagnostics.h"

namespace juniper::engine {

// The values of `node` for each row of `table`, as a calculated column of it would hold them: aggregates in it are
// evaluated in the empty slice. Its owners keep whatever its texts view. Errors: JR-701 (a number that does not fit).
struct RowValues {
  std::vector<std::unique_ptr<Program>> programs;
  std::unique_ptr<Evaluator> evaluator;
  VectorPtr values;
};
Result<RowValues> evaluate_rows(const Source& source, language::TableIndex table, const language::NodePtr& node,
                                unsigned threads);

// The rows and columns of a calculated table.
struct TableValues {
  std::unique_ptr<Evaluator> evaluator;
  std::uint64_t rows = 0;
  std::vector<VectorPtr> columns;
};
Result<TableValues> evaluate_table(const Source& source, language::TableIndex table, unsigned threads);

}  // namespace juniper::engine
