#include "base/calendar_names.h"

#include <unicode/dtfmtsym.h>
#include <unicode/locid.h>

#include <algorithm>
#include <span>

namespace juniper::base {

std::optional<CalendarNames> calendar_names(const std::string& language) {
  UErrorCode status = U_ZERO_ERROR;
  const icu::Locale locale = icu::Locale::forLanguageTag(language, status);
  std::int32_t count = 0;
  const icu::Locale* const known = icu::Locale::getAvailableLocales(count);
  const auto all = std::span(known, static_cast<std::size_t>(count));
  const bool is_known = std::any_of(all.begin(), all.end(), [&](const icu::Locale& l) { return l == locale; });
  if (U_FAILURE(status) || !is_known) return std::nullopt;
  const icu::DateFormatSymbols symbols(locale, status);
  if (U_FAILURE(status)) return std::nullopt;
  CalendarNames names;
  const icu::UnicodeString* const months =
      symbols.getMonths(count, icu::DateFormatSymbols::STANDALONE, icu::DateFormatSymbols::WIDE);
  if (count < 12) return std::nullopt;
  for (std::size_t month = 0; month < 12; ++month) months[month].toUTF8String(names.months[month]);
  // Sunday is the first there, at place 1.
  const icu::UnicodeString* const days =
      symbols.getWeekdays(count, icu::DateFormatSymbols::STANDALONE, icu::DateFormatSymbols::WIDE);
  if (count < 8) return std::nullopt;
  for (std::size_t day = 0; day < 7; ++day) days[day == 6 ? 1 : day + 2].toUTF8String(names.weekdays[day]);
  return names;
}

}  // namespace juniper::base
