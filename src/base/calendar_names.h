// Names of months and days of the week, in a language.
#pragma once

#include <array>
#include <optional>
#include <string>

namespace juniper::base {

struct CalendarNames {
  std::array<std::string, 12> months;   // from January
  std::array<std::string, 7> weekdays;  // from Monday
};

// For a language by its code of ISO 639 ("de"), or with a country ("pt-BR"), as the Unicode CLDR has them. Nothing for one
// that it does not have.
std::optional<CalendarNames> calendar_names(const std::string& language);

}  // namespace juniper::base
