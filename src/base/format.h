// Values for people: Unicode LDML number and date patterns.
#pragma once

#include <string>
#include <string_view>

#include "juniper/value.h"

namespace juniper::base {

// What is wrong with a pattern for values of a type; "" for a good one.
std::string pattern_problem(std::string_view pattern, Type type);

// A value by a pattern ("#,##0.00", "0.0%", "d MMM yyyy"), halves rounded away from zero, with English names and signs.
// Without a pattern: the exact text, reals with up to six significant digits. Null gives "".
std::string format_value(const Value& value, Type type, std::string_view pattern);

// "12,345"
std::string grouped(std::uint64_t number);
// "1.52 MB" (powers of 1000), "812 B"
std::string format_bytes(std::uint64_t bytes);
// "3.41 s", "12.7 ms", "410 µs"
std::string format_nanoseconds(std::int64_t nanoseconds);

}  // namespace juniper::base
