// The scalar functions: names, and the types that they take and give.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "language/checked.h"

namespace juniper::language {

// What a function makes of its arguments' types. Exact numbers are `number` below; a parameter that is `real` takes
// any number, converted.
enum class Signature : std::uint8_t {
  number_same,       // number -> the same type
  number_integer,    // number -> integer
  round,             // number [, whole number] -> number
  whole,             // number -> integer, decimal(0) or real
  real_1,            // real -> real
  real_2,            // real, real -> real
  like_terms,        // two or more of one type -> that type
  text_text,         // text -> text
  text_integer,      // text -> integer
  text_test,         // text, text -> boolean
  text_replace,      // text, text, text -> text
  text_substring,    // text, integer [, integer] -> text
  date_part,         // date or datetime -> integer
  time_part,         // datetime or time -> integer
  to_date,           // datetime or date -> date
  to_time,           // datetime -> time
  to_datetime,       // date, time -> datetime
  date_move,         // date, integer -> date
  dates_integer,     // date, date -> integer
  dates_real,        // date, date -> real
  calendar_edge,     // date, unit -> date
  no_argument_date,  // -> date
};

struct FunctionEntry {
  std::string_view name;
  Function function;
  Signature signature;
  std::string_view usage;  // for messages: "round(number, digits)"
};

const FunctionEntry* find_function(std::string_view name);
std::vector<std::string> function_names();

}  // namespace juniper::language
