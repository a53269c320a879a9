// A query's result as a text file.
//
//   juniper baseline 1
//   query<TAB>NAME
//   key<TAB>NAME<TAB>TYPE<TAB>FORMAT        one line for each `by` column, in order
//   value<TAB>NAME<TAB>TYPE<TAB>FORMAT      one line for each shown measure
//   level<TAB>NAME[<TAB>KEY …]              one line for each level, with the keys that it keeps
//   rows<TAB>COUNT
//   LEVEL<TAB>CELL[<TAB>CELL …]             one line for each row: the number of its level, and its cells
//
// A cell is the exact text of its value; null is \N; within a field, tab, newline, carriage return and backslash are
// written \t \n \r \\. One row a line, so that two files of one query differ exactly where the results do.
#pragma once

#include <string>

#include "juniper/ask.h"
#include "juniper/diagnostics.h"

namespace juniper::regress {

inline constexpr std::string_view first_line = "juniper baseline 1";

std::string write_result(const std::string& query, const QueryResult& result);

struct ReadResult {
  std::string query;
  QueryResult result;
};
// Reads such a text. Errors: JR-904 with file and line.
Result<ReadResult> read_result(const std::string& file, const std::string& text);

}  // namespace juniper::regress
