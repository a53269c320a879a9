// What the language knows of each operation: the words and signatures of functions, whether the order of rows tells in a
// result, and the name that stands in canonical texts. What it does is the evaluators' (engine/operations, engine/naive,
// sql).
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
  to_date,           // datetime or date -> date; text [, pattern] -> date, which is another function
  to_time,           // datetime -> time
  to_datetime,       // date, time -> datetime; text [, pattern] -> datetime, which is another function
  date_move,         // date, integer -> date
  dates_integer,     // date, date -> integer
  dates_real,        // date, date -> real
  calendar_edge,     // date, unit -> date
  no_argument_date,  // -> date
  to_text,           // any value -> text; a number or a moment, pattern -> text
  from_text,         // text -> its type
  to_decimal,        // text, digits -> decimal of so many digits
};

struct FunctionEntry {
  std::string_view name;
  Function function;
  Signature signature;
  std::string_view usage;  // for messages: "round(number, digits)"
};

const FunctionEntry* find_function(std::string_view name);
std::vector<std::string> function_names();

// Where a node's value comes from: something of its own, or the values of its children.
enum class OpForm : std::uint8_t {
  literal,
  column,
  field,
  name,
  measure,
  modified,
  let,
  aggregate,
  grouping,
  operation,
};
OpForm form_of(Op op);

// The name of an operation in canonical texts, and so in the signatures of stores. It stays what it is: an operation
// that comes to mean something else gets another one.
std::string_view id_of(Op op);
std::string_view id_of(Function function);  // its word
std::string_view id_of(Aggregate aggregate);
std::string_view id_of(RowsKind kind);
std::string_view id_of(Period period);
std::string_view id_of(Unit unit);

// True if the order of its rows tells in an aggregate's result.
bool order_tells(Aggregate aggregate);

}  // namespace juniper::language
