// A checked query to its result.
//
// Each table that the measures aggregate is scanned once, with the keys and filters that reach it, and grouped in that
// one pass for every level (the detail rows and each total); then the shown expressions are evaluated over the groups.
// The number of scans depends on the query's text alone, never on the number of groups.
#pragma once

#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

Result<QueryResult> run_query(const Source& source, const language::Query& query, unsigned threads);

}  // namespace juniper::engine
