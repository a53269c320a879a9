// A checked query as one SQL statement over `fact LEFT JOIN dimension …`, which is what the language is defined by.
//
// Every aggregate becomes a correlated subquery over the rows that its slice allows, in the plainest form there is: the
// statement is made to be held against the engine, not to be fast.
//
// The tables are those that sql/export.h writes into SQLite: each with its columns and "row$", the row's number; exact
// decimals as whole numbers of their last digit, dates as days and datetimes and times as microseconds since 1970-01-01
// or midnight, booleans as 0 and 1. Functions beyond SQLite's own are those that sql/functions.h registers.
#pragma once

#include <string>

#include "language/checked.h"

namespace juniper::sql_engine {

// The statement: a column "level" (0 for the query's own rows, then one number for each total), the `by` columns, the
// shown measures. `limit` and `sort` are not in it: its rows come by level and keys. `today` is the day of today().
std::string translate(const language::CheckedModel& model, const language::Query& query, std::int64_t today);

// A calculated column's expression as a statement that gives "row$" and its value for each row of `table`.
std::string translate_column(const language::CheckedModel& model, language::TableIndex table,
                             const language::NodePtr& expression, std::int64_t today);

// "name", with quotes within it doubled.
std::string quoted(const std::string& name);

}  // namespace juniper::sql_engine
