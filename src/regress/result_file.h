// A query's result as a text file.
//
//   juniper baseline 2
//   query<TAB>NAME
//   text<TAB>CLAUSES                        of a query that the model has not saved
//   set<TAB>PARAMETER<TAB>VALUE             with which it is asked, one line each
//   asked<TAB>COUNT                         how often it stands in the log that it comes from
//   model<TAB>FINGERPRINT                   of the model that gave it: a folder under models/
//   key<TAB>NAME<TAB>TYPE<TAB>FORMAT        one line for each `by` column, in order
//   value<TAB>NAME<TAB>TYPE<TAB>FORMAT      one line for each shown measure
//   level<TAB>NAME[<TAB>KEY …]              one line for each level, with the keys that it keeps
//   rows<TAB>COUNT
//   LEVEL<TAB>CELL[<TAB>CELL …]             one line for each row: the number of its level, and its cells
//
// A cell is the exact text of its value; null is \N; within a field, tab, newline, carriage return and backslash are
// written \t \n \r \\. One row a line, so that two files of one query differ exactly where the results do.
#pragma once

#include <map>
#include <string>

#include "juniper/ask.h"
#include "juniper/diagnostics.h"

namespace juniper::regress {

inline constexpr std::string_view first_line = "juniper baseline 2";

struct RecordedResult {
  std::string query;                       // its name
  std::string text;                        // of a query that the model has not saved; else ""
  std::map<std::string, std::string> set;  // parameters
  std::uint64_t asked = 0;                 // 0 for one that comes from no log
  std::string model;                       // fingerprint
  QueryResult result;

  // What to ask.
  const std::string& question() const { return text.empty() ? query : text; }
};

std::string write_result(const RecordedResult& recorded);

// Reads such a text. Errors: JR-904 with file and line.
Result<RecordedResult> read_result(const std::string& file, const std::string& text);

}  // namespace juniper::regress
