// The language row by row: every measure evaluated for one slice at a time, every set of rows written out, nothing
// shared and nothing planned. Slow on purpose: it is what the engine is held against.
#pragma once

#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

Result<QueryResult> run_query_naively(const Source& source, const language::Query& query);

// The values of a calculated column's expression, one for each row of `table`.
Result<std::vector<Value>> evaluate_rows_naively(const Source& source, language::TableIndex table,
                                                 const language::NodePtr& node);

}  // namespace juniper::engine
