// Functions that SQLite has none of, as the dialect for it names them.
#pragma once

struct sqlite3;

namespace juniper::sql_engine {

// Registers with a connection, beside SQLite's own functions:
//   upper_text, lower_text      the Unicode rules of the root locale
//   start_of, end_of, moved     of days, with a unit by number (base::Unit)
//   iso_week, months_between, years_between, floor_divide, round_real
//   text_of, integer_from, decimal_from, real_from, date_from, datetime_from   conversions
//   product, quantile(x, p), variance(x, sample)   aggregates
void add_functions(sqlite3* database);

}  // namespace juniper::sql_engine
