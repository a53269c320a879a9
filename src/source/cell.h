// A value of a source as the text that it is, or would be, in CSV.
#pragma once

#include <cstdint>
#include <optional>
#include <string_view>

#include "base/field_part.h"
#include "juniper/value.h"

namespace juniper::source {

// A date and time of day in microseconds since 1970, as parse_value reads it; or one with its zone behind it ("Z", "+02:00",
// "-0530"), in UTC. Digits behind a microsecond may be zeros. Nothing for anything else.
std::optional<std::int64_t> parse_moment(std::string_view text);

// What parse_value makes of a text of any form, or of the part of it that is asked for; nothing if that does not fit. For
// all types but real and text.
std::optional<std::int64_t> parse_cell(std::string_view text, Type type, base::FieldPart part);

}  // namespace juniper::source
