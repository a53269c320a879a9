// A checked query to its result.
//
// Each table that the measures aggregate is scanned once, with the keys and filters that reach it, and grouped in that
// one pass for every level (the detail rows and each total); then the shown expressions are evaluated over the groups.
// The number of scans depends on the query's text alone, never on the number of groups.
#pragma once

#include "engine/program/program.h"
#include "juniper/ask.h"
#include "juniper/explain.h"

namespace juniper::engine {

// What running a query did, the query itself first.
Result<Explanation> explain_query(const Source& source, const language::Query& query, unsigned threads);

Result<QueryResult> run_query(const Source& source, const language::Query& query, unsigned threads);

}  // namespace juniper::engine
