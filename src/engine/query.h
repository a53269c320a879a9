// A checked query to its result.
//
// For each level (the detail rows and each total) and each table that its measures aggregate, one grouped scan with
// the keys and filters that reach the table; then the shown expressions over the groups. The number of scans depends on
// the query's text alone, never on the number of groups.
#pragma once

#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

Result<QueryResult> run_query(const Source& source, const language::Query& query, unsigned threads);

}  // namespace juniper::engine
