// Texts that hold values: what the conversions of the language make of them. Blanks around a value are none of it; a text
// that holds no value gives nothing.
#pragma once

#include <cstdint>
#include <optional>
#include <string_view>

namespace juniper::base {

// A sign or none, digits; within 64 bits.
std::optional<std::int64_t> integer_from(std::string_view text);

// A sign or none, digits with one point or none, of which no more than `scale` behind it are other than 0; as units of
// 10^-scale, within 64 bits.
std::optional<std::int64_t> decimal_from(std::string_view text, int scale);

// The same with any number of digits, and a power of ten ("1.5e3") or none; finite, and not so small that it would be 0.
std::optional<double> real_from(std::string_view text);

// A day, and microseconds since 1970: as the language writes them, or by a pattern of base/date_pattern.h.
std::optional<std::int64_t> date_from(std::string_view text, std::string_view pattern);
std::optional<std::int64_t> datetime_from(std::string_view text, std::string_view pattern);

}  // namespace juniper::base
