// Where the rows of a table come from, as its text says.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace juniper::base {

enum class SourceKind : std::uint8_t { csv, parquet };

// How a source spells what its fields say, where that is not as here.
struct Spelling {
  char decimal = '.';              // before the decimals of a number
  char thousands = '\0';           // between groups of three digits; none
  std::vector<std::string> nulls;  // fields that are null, beside empty ones, where they stand without quotes
  std::string dates;               // "dd.MM.yyyy": d, dd, M, MM and yyyy among other characters; empty: as here

  bool is_plain() const { return *this == Spelling(); }
  bool operator==(const Spelling&) const = default;
};

struct SourcePlace {
  SourceKind kind = SourceKind::csv;
  std::string pattern;   // a file's path, or several: "data/sessions-*.csv", with * and ? in the last part of the path
  char delimiter = ',';  // of CSV
  Spelling spelling;     // of CSV

  bool operator==(const SourcePlace&) const = default;
};

// Whether a pattern of dates names a day, a month and a year of four digits, each once, and nothing else but characters
// between them.
bool is_date_pattern(std::string_view pattern);

// The options as the language writes them: (delimiter ";", decimal ","); "" where all is as it is without any.
std::string options_text(const SourcePlace& place);

inline constexpr std::array source_kinds{SourceKind::csv, SourceKind::parquet};

// The word of the language for a kind.
constexpr std::string_view name_of(SourceKind kind) {
  switch (kind) {
    case SourceKind::csv:
      return "csv";
    case SourceKind::parquet:
      return "parquet";
  }
  return "";
}

constexpr std::optional<SourceKind> source_kind(std::string_view word) {
  for (const SourceKind kind : source_kinds) {
    if (name_of(kind) == word) return kind;
  }
  return std::nullopt;
}

}  // namespace juniper::base
