// Where the rows of a table come from, as its text says.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace juniper::base {

enum class SourceKind : std::uint8_t { csv, parquet };

struct SourcePlace {
  SourceKind kind = SourceKind::csv;
  std::string pattern;   // a file's path, or several: "data/sessions-*.csv", with * and ? in the last part of the path
  char delimiter = ',';  // of CSV

  bool operator==(const SourcePlace&) const = default;
};

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
