// Dates as texts spell them elsewhere: "dd.MM.yyyy", "M/d/yyyy HH:mm".
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace juniper::base {

// One day (d or dd), one month (M or MM) and one year (yyyy), in any order, with marks between them: one letter stands for
// one digit or two.
bool is_date_pattern(std::string_view pattern);

// The date at the begin of a text, spelled as the pattern says, as "2025-03-01", and what stands behind it as it is; nothing
// where it is not spelled so. Whether there is such a day is for parse_date to tell.
std::optional<std::string> respelled_date(std::string_view text, std::string_view pattern);

// A pattern of dates with the time of day behind it: a blank or T, then HH:mm or HH:mm:ss.
bool is_datetime_pattern(std::string_view pattern);

// The same for the whole text: "2025-03-01 08:30:00".
std::optional<std::string> respelled_datetime(std::string_view text, std::string_view pattern);

}  // namespace juniper::base
