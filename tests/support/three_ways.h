// One calculated column, or one query, computed in three ways.
#pragma once

#include <optional>
#include <string>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/sql.h"
#include "language/checked.h"

namespace juniper::test {

// What differs between a stored calculated column, the naive evaluator's values, and SQLite's: exact types exactly,
// reals to 1e-9 of their size. "" when nothing does.
std::string column_difference(const Dataset& dataset, language::ColumnId id);

// What differs between two answers to one question: values (reals beyond their last digits), rows, or the error.
std::string answer_difference(const Result<QueryResult>& a, const Result<QueryResult>& b);

// The answer without its reals, but for keys: of reals far apart, what is computed is another number with each order of
// additions.
Result<QueryResult> without_computed_reals(Result<QueryResult> answer);

// What differs between the engine's answer to a query and the naive evaluator's or SQLite's.
std::string answer_difference(const Dataset& dataset, const std::string& query);

// What differs between the engine's answer and SQLite's; nothing where SQLite can't tell: called off, of more levels than
// its parser takes, or a product (where there may be one) beyond its 64 bits.
std::optional<std::string> sqlite_difference(SqliteTwin& twin, const std::string& query, bool has_product);

}  // namespace juniper::test
