// A checked query as one SQL statement over `fact LEFT JOIN dimension …`, which is what the language is defined by.
//
// An aggregate over the rows that its slice allows is grouped by what ties these rows to the place where it stands, in a
// part of its own in front of the statement (WITH); there, a look-up of one row remains. So an engine passes over a
// table once for each aggregate, not once for each cell.
//
// How tables and values stand in it is told by its dialect. For SQLite, the tables and the functions beyond SQLite's
// own are those of sql/sqlite.h.
#pragma once

#include <string>

#include "language/checked.h"
#include "sql/dialect.h"

namespace juniper::sql_engine {

// The statement: a column "level" (0 for the query's own rows, then one number for each total), the `by` columns, the
// shown measures. `limit` and `sort` are not in it: its rows come by level and keys. `today` is the day of today(). A
// query that crosses a broken link throws a base::Failure with JR-706.
std::string translate(const language::CheckedModel& model, const language::Query& query, std::int64_t today,
                      const Dialect& dialect);

// A calculated column's expression as a statement that gives "row$" and its value for each row of `table`.
std::string translate_column(const language::CheckedModel& model, language::TableIndex table,
                             const language::NodePtr& expression, std::int64_t today, const Dialect& dialect);

}  // namespace juniper::sql_engine
