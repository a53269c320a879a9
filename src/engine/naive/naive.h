// The language row by row: every measure evaluated for one slice at a time, every set of rows written out, nothing
// shared and nothing planned. Slow on purpose: it is what the engine is held against. It shares nothing with the engine
// but what a value is and what a predicate reaches, and reads whatever data it is given.
#pragma once

#include "engine/naive/data.h"
#include "juniper/ask.h"

namespace juniper::engine {

// Errors: JR-701 (a result does not fit its type).
Result<QueryResult> run_query_naively(const language::CheckedModel& model, naive::Data& data, Setting setting,
                                      const language::Query& query);

// The values of a calculated column's expression, one for each row of `table`. Errors: JR-704 (one does not fit).
Result<std::vector<Value>> evaluate_rows_naively(const language::CheckedModel& model, naive::Data& data,
                                                 Setting setting, language::TableIndex table,
                                                 const language::NodePtr& node);

// The columns of a calculated table that are taken from its rows; the others are left empty. Errors: JR-704.
Result<std::vector<std::vector<Value>>> evaluate_table_naively(const language::CheckedModel& model, naive::Data& data,
                                                               Setting setting, language::TableIndex table);

}  // namespace juniper::engine
