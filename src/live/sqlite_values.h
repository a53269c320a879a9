// What stands in an SQLite file as values of declared types: functions of a connection.
#pragma once

struct sqlite3;

namespace juniper::live {

// Registers with a connection:
//   value_of(x, kind, scale, part)   a cell as a value as in a store; an error where it does not fit
//   exact_sum, exact_difference, exact_product(a, b)   of whole numbers; an error where the result leaves 64 bits
void add_value_functions(sqlite3* database);

}  // namespace juniper::live
