// Results that somebody else gave, as a CSV file: a header of column names, and a line for each row.
#pragma once

#include <string>

#include "juniper/compare.h"

namespace juniper::regress {

// Compares a result with such a file. Columns are found by name, in any order; the file holds all keys, and those
// measures that are compared. A row whose empty keys are totals of the result stands for that total where no detail row
// has them null; numbers may have fewer digits, and are compared with the result rounded to theirs, halves away from
// zero; an empty cell is null. `file` names it in messages. Errors: JR-905 (no such column, a key that is missing, a
// cell that does not fit its type: names the line).
Result<Comparison> compare_with_csv(const QueryResult& found, const std::string& file, const std::string& text,
                                    std::size_t samples, const Tolerance& tolerance);

}  // namespace juniper::regress
