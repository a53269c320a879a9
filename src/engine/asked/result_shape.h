// The shape of a result, and the errors for what a result can't hold: what every evaluator says in the same words.
#pragma once

#include <vector>

#include "juniper/ask.h"
#include "language/checked.h"

namespace juniper::engine {

// A query's result without rows: its columns, and its levels with the indexes of the `by` columns that each keeps.
QueryResult empty_result(const language::CheckedModel& model, const language::Query& query,
                         const std::vector<std::vector<std::uint32_t>>& kept);

// The error for rows that are ordered, grouped or told apart by what does not fit its type in one of them.
Diagnostics key_error(const language::CheckedModel& model, language::Span span);

// The error for a group whose `having` does not fit, named by the values of the kept columns.
Diagnostics having_error(const language::CheckedModel& model, const language::Query& query,
                         const std::vector<std::uint32_t>& kept, const std::vector<Value>& values);

// The error for a shown value that does not fit its type, which names its group by the values of the kept columns.
Diagnostics overflow_error(const language::CheckedModel& model, const language::Query& query,
                           const language::QueryShow& item, const std::vector<std::uint32_t>& kept,
                           const std::vector<Value>& values);

}  // namespace juniper::engine
