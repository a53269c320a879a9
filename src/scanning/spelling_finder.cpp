#include "scanning/spelling_finder.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "source/spelling.h"

namespace juniper::scanning {

namespace {

constexpr std::array<std::string_view, 9> words{"NA", "N/A", "n/a", "NULL", "null", "None", "NaN", "-", "."};
constexpr std::array<std::string_view, 10> dates{"dd.MM.yyyy", "d.M.yyyy",   "dd/MM/yyyy", "d/M/yyyy",   "MM/dd/yyyy",
                                                 "M/d/yyyy",   "dd-MM-yyyy", "MM-dd-yyyy", "yyyy/MM/dd", "yyyy.MM.dd"};
// The mark of decimals, then that of thousands.
constexpr std::array<std::string_view, 4> marks{",", ",.", ".,", ".'"};

// Readings that all of some columns allow, one for each spelling; of dates or of numbers.
std::vector<base::Spelling> common(const std::vector<const SpellingFinder*>& columns, bool of_dates) {
  std::vector<base::Spelling> shared;
  bool is_first = true;
  for (const SpellingFinder* column : columns) {
    std::vector<base::Spelling> here;
    for (const SpellingFinder::Reading& reading : column->readings()) {
      if (!reading.spelling.is_plain() && reading.is_of_dates == of_dates) here.push_back(reading.spelling);
    }
    const bool needs_none = std::any_of(column->readings().begin(), column->readings().end(),
                                        [](const auto& reading) { return reading.spelling.is_plain(); });
    if (here.empty() || needs_none) continue;
    if (is_first) {
      shared = here;
    } else {
      std::erase_if(shared,
                    [&](const base::Spelling& s) { return std::find(here.begin(), here.end(), s) == here.end(); });
    }
    is_first = false;
  }
  return shared;
}

}  // namespace

SpellingFinder::SpellingFinder() {
  readings_.push_back({});
  for (const std::string_view pattern : dates) {
    Reading& reading = readings_.emplace_back();
    reading.spelling.dates = pattern;
    reading.is_of_dates = true;
  }
  for (const std::string_view mark : marks) {
    Reading& reading = readings_.emplace_back();
    reading.spelling.decimal = mark[0];
    if (mark.size() > 1) reading.spelling.thousands = mark[1];
  }
}

void SpellingFinder::add(std::string_view text, bool quoted, std::uint64_t line) {
  if (!quoted && std::find(words.begin(), words.end(), text) != words.end()) {
    null_words_.emplace(text);
    return;
  }
  std::erase_if(readings_, [&](Reading& reading) {
    const Type type{reading.is_of_dates ? TypeKind::datetime : TypeKind::real, 0};
    const auto here = reading.spelling.is_plain()
                          ? std::string(text)
                          : source::respelled(text, type, base::FieldPart::whole, reading.spelling);
    if (!here) return true;
    reading.finder.add(*here, line);
    return reading.finder.type().kind == TypeKind::text;
  });
}

FoundSpelling find_spelling(const std::vector<const SpellingFinder*>& columns, bool has_points) {
  FoundSpelling found;
  std::vector<base::Spelling> of_dates = common(columns, true);
  // Where one letter will do for two, two say more.
  const auto has = [&](std::string_view pattern) {
    return std::any_of(of_dates.begin(), of_dates.end(), [&](const base::Spelling& s) { return s.dates == pattern; });
  };
  std::erase_if(of_dates, [&](const base::Spelling& s) {
    return (s.dates == "d.M.yyyy" && has("dd.MM.yyyy")) || (s.dates == "d/M/yyyy" && has("dd/MM/yyyy")) ||
           (s.dates == "M/d/yyyy" && has("MM/dd/yyyy"));
  });
  if (of_dates.size() == 1) {
    found.spelling.dates = of_dates[0].dates;
  } else if (of_dates.size() > 1) {
    found.doubt = fmt::format("the dates could be {} or {}: say which by (dates \"…\") behind the source",
                              of_dates[0].dates, of_dates[1].dates);
  }
  std::vector<base::Spelling> of_numbers = common(columns, false);
  if (has_points) std::erase_if(of_numbers, [](const base::Spelling& s) { return s.decimal != '.'; });
  const auto comma_is_decimal = [](const base::Spelling& s) { return s.decimal == ','; };
  const auto comma_is_thousands = [](const base::Spelling& s) { return s.thousands == ','; };
  if (std::any_of(of_numbers.begin(), of_numbers.end(), comma_is_decimal) &&
      std::any_of(of_numbers.begin(), of_numbers.end(), comma_is_thousands)) {
    found.doubt +=
        fmt::format("{}the commas could mark decimals or thousands: say which by (decimal \",\") or (thousands \",\")",
                    found.doubt.empty() ? "" : "; ");
  } else if (!of_numbers.empty()) {
    found.spelling.decimal = of_numbers[0].decimal;
    found.spelling.thousands = of_numbers[0].thousands;
  }
  // Words that make a column typed, but for those that a column of texts holds as well: there they may mean something.
  std::set<std::string> nulls;
  std::set<std::string> meant;
  for (const SpellingFinder* column : columns) {
    const SpellingFinder::Reading* reading = reading_of(*column, found.spelling);
    (reading != nullptr && reading->finder.has_values() ? nulls : meant)
        .insert(column->null_words().begin(), column->null_words().end());
  }
  for (const std::string& word : nulls) {
    if (!meant.contains(word)) found.spelling.nulls.push_back(word);
  }
  return found;
}

const SpellingFinder::Reading* reading_of(const SpellingFinder& column, const base::Spelling& spelling) {
  for (const SpellingFinder::Reading& reading : column.readings()) {
    const bool same_marks =
        reading.spelling.decimal == spelling.decimal && reading.spelling.thousands == spelling.thousands;
    const bool fits =
        reading.spelling.is_plain() || (reading.is_of_dates ? reading.spelling.dates == spelling.dates : same_marks);
    if (fits) return &reading;
  }
  return nullptr;
}

}  // namespace juniper::scanning
