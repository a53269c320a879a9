// Where the rows of a table come from, as its text says.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace juniper::base {

enum class SourceKind : std::uint8_t { csv, parquet, arrow, json, xlsx, ods, sqlite, postgresql, odbc, clickhouse };

// How a source spells what its fields say, where that is not as here.
struct Spelling {
  char decimal = '.';               // before the decimals of a number
  char thousands = '\0';            // between groups of three digits; none
  std::vector<std::string> nulls;   // fields that are null, beside empty ones, where they stand without quotes
  std::string dates;                // "dd.MM.yyyy": d, dd, M, MM and yyyy among other characters; empty: as here
  std::vector<std::string> truths;  // the words for true and for false; empty: as here

  bool is_plain() const { return *this == Spelling(); }
  bool operator==(const Spelling&) const = default;
};

// Which rows of a place that holds several sets of them.
struct Selection {
  enum class Kind : std::uint8_t { all, table, query, sheet };
  Kind kind = Kind::all;
  std::string text;  // a name, or a statement of SQL

  bool operator==(const Selection&) const = default;
};

struct SourcePlace {
  SourceKind kind = SourceKind::csv;
  // A file's path, or several: "data/sessions-*.csv", with * and ? in the last part of the path. Of a server, how to reach it.
  std::string pattern;
  Selection selection;
  char delimiter = ',';       // of CSV
  Spelling spelling;          // of texts
  std::string encoding = {};  // of CSV: a name that ICU knows; "" for UTF-8, or UTF-16 with its mark
  std::uint32_t skip = 0;     // of CSV: lines above that of the headers
  bool live = false;          // whether rows stay where they are, and questions go there

  bool operator==(const SourcePlace&) const = default;
};

// Whether rows of this kind stand on a server, not in files.
constexpr bool is_server(SourceKind kind) {
  return kind == SourceKind::postgresql || kind == SourceKind::odbc || kind == SourceKind::clickhouse;
}
// Whether tables can stay there while questions are asked of them.
constexpr bool can_be_live(SourceKind kind) {
  return kind == SourceKind::sqlite || kind == SourceKind::postgresql || kind == SourceKind::clickhouse;
}
// Whether rows of this kind can be loaded into a store.
constexpr bool can_be_loaded(SourceKind kind) {
  return kind != SourceKind::clickhouse;
}
// Whether a place of this kind holds tables by name, and answers statements of SQL.
constexpr bool is_database(SourceKind kind) {
  return kind == SourceKind::sqlite || is_server(kind);
}
constexpr bool is_spreadsheet(SourceKind kind) {
  return kind == SourceKind::xlsx || kind == SourceKind::ods;
}

// Whether there is an encoding of that name.
bool is_encoding(const std::string& name);

// What stands behind the pattern, as the language writes it: table "sessions", (delimiter ";", decimal ","); "" where all
// is as it is without.
std::string details_text(const SourcePlace& place);

inline constexpr std::array source_kinds{
    SourceKind::csv, SourceKind::parquet, SourceKind::arrow,      SourceKind::json, SourceKind::xlsx,
    SourceKind::ods, SourceKind::sqlite,  SourceKind::postgresql, SourceKind::odbc, SourceKind::clickhouse};

// The word of the language for a kind.
constexpr std::string_view name_of(SourceKind kind) {
  switch (kind) {
    case SourceKind::csv:
      return "csv";
    case SourceKind::parquet:
      return "parquet";
    case SourceKind::arrow:
      return "arrow";
    case SourceKind::json:
      return "json";
    case SourceKind::xlsx:
      return "xlsx";
    case SourceKind::ods:
      return "ods";
    case SourceKind::sqlite:
      return "sqlite";
    case SourceKind::postgresql:
      return "postgresql";
    case SourceKind::odbc:
      return "odbc";
    case SourceKind::clickhouse:
      return "clickhouse";
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
