// What the tests of sources share: a table of any kind read into texts, and a drawn table that stands in CSV.
#pragma once

#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <optional>
#include <random>
#include <string>
#include <vector>

#include "source/source.h"
#include "store/column.h"
#include "support/support.h"

namespace juniper::test {

inline source::TableRequest request_of(const std::filesystem::path& file, base::SourcePlace place,
                                       std::vector<source::ColumnRequest> columns) {
  place.pattern = base::is_server(place.kind) ? file.string() : file.filename().string();
  return {"t", file.parent_path(), std::move(place), std::move(columns)};
}

inline source::TableRequest request_of(const std::filesystem::path& file, base::SourceKind kind,
                                       std::vector<source::ColumnRequest> columns) {
  return request_of(file, base::SourcePlace{kind, "", {}, ',', {}}, std::move(columns));
}

inline Result<source::TableInput> read_source(const source::TableRequest& request, unsigned threads = 0,
                                              source::Rejects* rejects = nullptr) {
  const auto files = source::find_files(request);
  if (!files) return tl::unexpected(files.error());
  source::ReadSettings settings;
  settings.threads = threads;
  settings.rejects = rejects;
  return source::read_table(request, *files, settings);
}

// The values of each column as texts.
inline std::vector<std::vector<std::string>> texts_of(source::TableInput input) {
  std::vector<std::vector<std::string>> columns;
  for (source::ColumnInput& staged : input.columns) {
    const store::Column column = store::encode_column(std::move(staged));
    std::vector<std::string>& texts = columns.emplace_back();
    for (std::uint64_t row = 0; row < column.rows; ++row) {
      const Value value = column.at(row);
      texts.push_back(value.is_null() ? "null" : "'" + to_text(value, column.type) + "'");
    }
  }
  return columns;
}

// A table of all types with drawn values, each as the text that it is here; nothing for null.
struct DrawnTable {
  struct Column {
    std::string name;
    Type type;
  };
  std::vector<Column> columns;
  std::vector<std::vector<std::optional<std::string>>> rows;

  std::vector<source::ColumnRequest> requests() const {
    std::vector<source::ColumnRequest> requests;
    for (const Column& column : columns) requests.push_back({"c_" + column.name, column.name, column.type});
    return requests;
  }

  std::string csv() const {
    std::string text;
    const auto quoted = [](const std::string& field) {
      std::string out = "\"";
      for (const char c : field) out.append(c == '"' ? 2 : 1, c);
      return out + '"';
    };
    for (const Column& column : columns) text += (text.empty() ? "" : ",") + quoted(column.name);
    text += "\n";
    for (const auto& row : rows) {
      for (std::size_t c = 0; c < row.size(); ++c) text += (c == 0 ? "" : ",") + (row[c] ? quoted(*row[c]) : "");
      text += "\n";
    }
    return text;
  }
};

// The texts of one come from a list of nasty ones. Reals are such that their shortest text is exact in all systems.
inline DrawnTable draw_table(std::mt19937_64& random, std::size_t rows) {
  const auto below = [&](std::uint64_t count) { return random() % count; };
  DrawnTable table;
  table.columns = {
      {"id", {TypeKind::integer, 0}},       {"amount", {TypeKind::decimal, 2}}, {"share", {TypeKind::real, 0}},
      {"flag", {TypeKind::boolean, 0}},     {"day", {TypeKind::date, 0}},       {"at", {TypeKind::datetime, 0}},
      {"time of day", {TypeKind::time, 0}}, {"text", {TypeKind::text, 0}},      {"odd \"name\"", {TypeKind::text, 0}}};
  const std::vector<std::string> texts{
      "",         "null",  "NULL", "NA",         "0",     "007",          "a,b",
      "\"",       "\"\"",  "a\nb", "a\r\nb",     "\\",    "\\.",          "\t",
      "{}",       "[1,2]", "true", "'",          "Mühle", "\xE3\x81\xB2", "\xF0\x9F\x94\x8C",
      " blanks ", "1e5",   "-",    "2025-01-01", "%s%n",  "\x01\x1f",     "\\u0041"};
  for (std::size_t r = 0; r < rows; ++r) {
    auto& row = table.rows.emplace_back();
    for (const DrawnTable::Column& column : table.columns) {
      if (column.name != "id" && below(6) == 0) {
        row.push_back(std::nullopt);
        continue;
      }
      const auto draw_exact = [&](std::int64_t low, std::int64_t high) {
        return Value::of(
            static_cast<int128>(low + static_cast<std::int64_t>(below(static_cast<std::uint64_t>(high - low)))));
      };
      switch (column.type.kind) {
        case TypeKind::integer:
          row.push_back(std::to_string(static_cast<std::int64_t>(r) * 7 - 50));
          break;
        case TypeKind::decimal:
          row.push_back(to_text(draw_exact(-99'999'999'999, 99'999'999'999), column.type));
          break;
        case TypeKind::real:
          row.push_back(
              to_text(Value::of(static_cast<double>(static_cast<std::int64_t>(below(2'000'000)) - 1'000'000) / 64),
                      column.type));
          break;
        case TypeKind::boolean:
          row.push_back(below(2) == 0 ? "true" : "false");
          break;
        case TypeKind::date:
          row.push_back(to_text(draw_exact(-20'000, 40'000), column.type));
          break;
        case TypeKind::datetime:
          row.push_back(to_text(draw_exact(-1'500'000'000, 3'500'000'000), {TypeKind::integer, 0}));
          row.back() = to_text(Value::of(static_cast<int128>(std::stoll(*row.back())) * 1'000'000), column.type);
          break;
        case TypeKind::time:
          row.push_back(to_text(Value::of(static_cast<int128>(below(86'400)) * 1'000'000), column.type));
          break;
        case TypeKind::text:
          row.push_back(texts[below(texts.size())]);
          break;
      }
    }
  }
  return table;
}

}  // namespace juniper::test
