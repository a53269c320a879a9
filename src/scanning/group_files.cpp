// Which files are tables, and which of them are one.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <fstream>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "scanning/found_table.h"
#include "source/csv/records.h"
#include "source/database/sqlite.h"
#include "source/parquet/table.h"
#include "source/spreadsheet/spreadsheet.h"

namespace juniper::scanning {

namespace {

namespace fs = std::filesystem;

// One set of rows that a file holds.
struct Part {
  base::SourceKind kind = base::SourceKind::csv;
  base::Selection selection;
  std::string columns;  // what tells whether two files have the same ones
  std::optional<char> delimiter;
};

// The kind that the first bytes of a file tell.
base::SourceKind kind_of_file(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  std::array<char, 512> bytes{};
  file.read(bytes.data(), bytes.size());
  std::string_view begin(bytes.data(), static_cast<std::size_t>(file.gcount()));
  if (begin.starts_with("PAR1")) return base::SourceKind::parquet;
  if (begin.starts_with(std::string_view("SQLite format 3\0", 16))) return base::SourceKind::sqlite;
  if (begin.starts_with("PK\x03\x04")) return source::spreadsheet_kind(path);
  const std::string name = path.filename().string();
  // A stream begins with a length, which tells nothing.
  if (begin.starts_with("ARROW1") || name.ends_with(".arrow") || name.ends_with(".arrows"))
    return base::SourceKind::arrow;
  const bool is_json = name.ends_with(".json") || name.find(".json.") != std::string::npos ||
                       name.ends_with(".jsonl") || name.find(".jsonl.") != std::string::npos ||
                       name.ends_with(".ndjson") || name.find(".ndjson.") != std::string::npos;
  return is_json ? base::SourceKind::json : base::SourceKind::csv;
}

Result<Part> part_of_csv(const fs::path& path) {
  auto pieces = source::CsvPieces::open(path, 1 << 12);
  if (!pieces) return tl::unexpected(pieces.error());
  std::string buffer;
  const auto text = pieces->next(buffer, ',');
  if (!text) return tl::unexpected(text.error());
  Part part;
  part.columns = text->substr(0, source::first_record_end(*text, ','));
  part.delimiter = ',';
  // The one that stands there most often; the comma where none does.
  std::ptrdiff_t most = 0;
  for (const char candidate : {',', ';', '\t', '|'}) {
    const auto count = std::count(part.columns.begin(), part.columns.end(), candidate);
    if (count > most) part.delimiter = candidate;
    most = std::max(most, count);
  }
  return part;
}

// All sets of rows that a file holds.
Result<std::vector<Part>> parts_of(const fs::path& path) {
  const base::SourceKind kind = fs::is_regular_file(path) ? kind_of_file(path) : base::SourceKind::csv;
  std::vector<Part> parts;
  const auto add = [&](base::Selection::Kind selection, const Result<std::vector<std::string>>& names) -> Result<void> {
    if (!names) return tl::unexpected(names.error());
    for (const std::string& name : *names) parts.push_back({kind, {selection, name}, "", std::nullopt});
    return {};
  };
  Result<void> added;
  switch (kind) {
    case base::SourceKind::csv: {
      auto part = part_of_csv(path);
      if (!part) return tl::unexpected(part.error());
      parts.push_back(std::move(*part));
      break;
    }
    case base::SourceKind::parquet: {
      const auto columns = source::parquet_columns(path);
      if (!columns) return tl::unexpected(columns.error());
      Part part{kind, {}, "", std::nullopt};
      for (const source::ParquetColumn& column : *columns)
        part.columns += fmt::format("{:?} {}\n", column.name, to_string(column.type));
      parts.push_back(std::move(part));
      break;
    }
    case base::SourceKind::sqlite:
      added = add(base::Selection::Kind::table, source::sqlite_tables(path));
      break;
    case base::SourceKind::xlsx:
    case base::SourceKind::ods:
      added = add(base::Selection::Kind::sheet, source::sheet_names(kind, path));
      // What a spreadsheet shows alone needs no name.
      if (parts.size() == 1) parts[0].selection = {};
      break;
    case base::SourceKind::arrow:
    case base::SourceKind::json:  // whose records need not have the same fields
    case base::SourceKind::postgresql:
    case base::SourceKind::odbc:
    case base::SourceKind::clickhouse:
      parts.push_back({kind, {}, "", std::nullopt});
      break;
  }
  if (!added) return tl::unexpected(added.error());
  return parts;
}

// A part of a file's name in a pattern, where only itself fits it.
std::string escaped(const std::string& name) {
  std::string pattern;
  for (const char c : name) {
    if (c == '*' || c == '?' || c == '[' || c == '\\') pattern += '\\';
    pattern += c;
  }
  return pattern;
}

// "sessions-2024.csv.gz" as "sessions" and "sessions-*.csv.gz".
std::pair<std::string, std::string> stem_and_pattern(const std::string& file) {
  const std::size_t dot = std::min(file.find('.'), file.size());
  const std::string stem = file.substr(0, dot);
  const std::size_t end = stem.find_last_not_of("0123456789-_ ");
  const std::string short_stem = end == std::string::npos ? stem : stem.substr(0, end + 1);
  if (short_stem.size() == stem.size()) return {stem, pattern_of(file)};
  const std::size_t first_digit = stem.find_first_of("0123456789", short_stem.size());
  if (first_digit == std::string::npos) return {stem, pattern_of(file)};
  return {short_stem, escaped(stem.substr(0, first_digit)) + "*" + escaped(file.substr(dot))};
}

}  // namespace

std::string pattern_of(const std::string& file) {
  return file.find_first_of("*?[") == std::string::npos ? file : escaped(file);
}

std::vector<TableFiles> group_files(std::vector<fs::path> files, const Unreadable& unreadable) {
  std::sort(files.begin(), files.end());
  // By pattern, part and columns.
  std::map<std::tuple<std::string, std::string, std::string>, TableFiles> groups;
  std::map<std::string, std::set<std::string>> headers;  // of each pattern
  for (const fs::path& path : files) {
    const auto parts = parts_of(path);
    if (!parts) {
      unreadable(path, parts.error());
      continue;
    }
    const auto [stem, pattern] = stem_and_pattern(path.filename().string());
    for (const Part& part : *parts) {
      const std::string columns = std::string(base::name_of(part.kind)) + " " + part.columns;
      headers[pattern].insert(columns);
      TableFiles& group = groups[{pattern, part.selection.text, columns}];
      group.kind = part.kind;
      group.selection = part.selection;
      group.name = part.selection.text.empty() ? stem : part.selection.text;
      group.pattern = path.parent_path() / pattern;
      group.delimiter = part.delimiter;
      group.files.push_back(path);
    }
  }
  std::vector<TableFiles> tables;
  for (auto& [key, group] : groups) {
    // A pattern that would match files of another header, or one file alone, is none.
    if (headers[std::get<0>(key)].size() == 1 && group.files.size() > 1) {
      tables.push_back(std::move(group));
      continue;
    }
    for (const fs::path& path : group.files) {
      const std::string file = path.filename().string();
      TableFiles single = group;
      single.files = {path};
      single.pattern = path.parent_path() / pattern_of(file);
      if (single.selection.text.empty()) single.name = file.substr(0, file.find('.'));
      tables.push_back(std::move(single));
    }
  }
  return tables;
}

bool may_be_table(const std::string& file) {
  constexpr std::array<std::string_view, 21> endings{
      ".arrow",  ".arrows",  ".feather", ".csv",   ".csv.gz",   ".csv.zst",   ".tsv",
      ".tsv.gz", ".tsv.zst", ".parquet", ".jsonl", ".jsonl.gz", ".jsonl.zst", ".ndjson",
      ".json",   ".json.gz", ".xlsx",    ".ods",   ".sqlite",   ".sqlite3",   ".db"};
  return std::any_of(endings.begin(), endings.end(), [&](std::string_view ending) { return file.ends_with(ending); });
}

void tell_kind(TableFiles& files) {
  files.kind = kind_of_file(files.files.front());
  if (files.kind != base::SourceKind::csv || files.delimiter) return;
  if (const auto part = part_of_csv(files.files.front())) files.delimiter = part->delimiter;
}

}  // namespace juniper::scanning
