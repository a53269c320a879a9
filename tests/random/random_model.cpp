#include "random/random_model.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace juniper::test {

namespace {

constexpr Type integer{TypeKind::integer, 0};
constexpr Type text{TypeKind::text, 0};
constexpr Type date{TypeKind::date, 0};

// Days around the turn of a year, so that periods begin and end among them.
std::string random_day(Random& random) {
  static constexpr std::array days{"2024-11-30", "2024-12-28", "2024-12-31", "2025-01-01", "2025-01-02", "2025-01-06",
                                   "2025-01-31", "2025-02-01", "2025-02-28", "2025-03-03", "2025-03-31", "2025-04-01"};
  return days[pick(random, days.size())];
}

std::string random_text(Random& random) {
  static constexpr std::array words{"app", "card", "Coast", "coast", "a b", "x%y", "é", "_", "Upland", "10"};
  return words[pick(random, words.size())];
}

}  // namespace

std::string random_field(Random& random, Type type) {
  if (chance(random, 12)) return "";
  switch (type.kind) {
    case TypeKind::boolean:
      return chance(random, 50) ? "true" : "false";
    case TypeKind::integer:
      return std::to_string(static_cast<int>(pick(random, 9)) - 3);
    case TypeKind::decimal:
      return fmt::format("{}{}.{:0{}}", chance(random, 20) ? "-" : "", pick(random, 6), pick(random, 10), 1) +
             std::string(type.scale > 1 && chance(random, 50) ? "5" : "");
    case TypeKind::real:
      return fmt::format("{}", (static_cast<double>(pick(random, 80)) - 20) / 8);
    case TypeKind::text:
      return chance(random, 8) ? "\"\"" : "\"" + random_text(random) + "\"";
    case TypeKind::date:
      return random_day(random);
    case TypeKind::datetime:
      return fmt::format("{} {:02}:{:02}:00", random_day(random), pick(random, 24), 15 * pick(random, 4));
    case TypeKind::time:
      return fmt::format("{:02}:{:02}:00", pick(random, 24), 15 * pick(random, 4));
  }
  return "";
}

std::string random_literal(Random& random, Type type) {
  std::string field;
  while (field.empty()) field = random_field(random, type);
  switch (type.kind) {
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return fmt::format("{} \"{}\"", to_string(type), field);
    case TypeKind::real:
      return field.find('.') == std::string::npos ? field + "e0" : field + "e0";
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::text:
      return field;
  }
  return field;
}

bool TableInfo::leads_to(std::size_t table) const {
  return std::any_of(routes.begin(), routes.end(), [&](const Route& route) { return route.table == table; });
}

std::size_t RandomModel::find(const std::string& name) const {
  const auto at = std::find_if(tables.begin(), tables.end(), [&](const TableInfo& t) { return t.name == name; });
  return static_cast<std::size_t>(at - tables.begin());
}

std::string RandomModel::text() const {
  std::string out;
  for (const std::string& parameter : parameters) out += parameter + "\n";
  for (std::size_t t = 0; t < tables.size(); ++t) {
    if (!tables[t].rows.empty()) {
      out += fmt::format("table {} = {}\n", tables[t].name, tables[t].rows);
      continue;
    }
    out += fmt::format("table {} from csv \"{}.csv\"{} {{\n", tables[t].name, tables[t].name,
                       t < rows_clauses.size() ? rows_clauses[t] : "");
    for (std::size_t c = 0; c < tables[t].columns.size(); ++c) {
      const ColumnInfo& column = tables[t].columns[c];
      if (!column.expression.empty()) {
        out += fmt::format("  {} = ({})\n", column.name, column.expression);
        continue;
      }
      out += fmt::format("  {}{} {}{}\n", c < tables[t].keys ? "key " : "", column.name, to_string(column.type),
                         column.attributes);
    }
    out += calculated[t] + "}\n";
  }
  for (const std::string& link : links) out += "link " + link + "\n";
  if (has_calendar) out += "calendar days.day periods (year, month)\n";
  for (const FunctionInfo& function : functions) out += "function " + function.name + function.text + "\n";
  for (const std::string& measure : measures) out += measure + "\n";
  return out;
}

std::map<std::string, std::string> RandomModel::files() const {
  std::map<std::string, std::string> files;
  for (std::size_t t = 0; t < tables.size(); ++t) {
    if (!tables[t].rows.empty()) continue;
    std::string csv;
    for (const ColumnInfo& column : tables[t].columns) {
      if (column.expression.empty()) csv += (csv.empty() ? "" : ",") + column.name;
    }
    csv += "\n";
    for (const auto& row : rows[t]) {
      for (std::size_t c = 0; c < row.size(); ++c) csv += (c == 0 ? "" : ",") + row[c];
      csv += "\n";
    }
    files[tables[t].name + ".csv"] = csv;
  }
  return files;
}

namespace {

// One or two columns more, of any type.
void widen(Random& random, TableInfo& table, std::size_t count) {
  static constexpr std::array types{Type{TypeKind::integer, 0}, Type{TypeKind::decimal, 1},  Type{TypeKind::decimal, 2},
                                    Type{TypeKind::real, 0},    Type{TypeKind::text, 0},     Type{TypeKind::boolean, 0},
                                    Type{TypeKind::date, 0},    Type{TypeKind::datetime, 0}, Type{TypeKind::time, 0}};
  static constexpr std::array names{"n", "d", "e", "r", "t", "b", "on", "at", "hour_of"};
  for (std::size_t i = 0; i < count; ++i) {
    const std::size_t kind = pick(random, types.size());
    table.columns.push_back({fmt::format("{}{}", names[kind], i), types[kind]});
  }
}

}  // namespace

RandomModel random_model(Random& random, std::size_t most_rows) {
  RandomModel model;
  model.tables = {
      {"sessions",
       {{"id", integer}, {"bay", integer}, {"tariff", text}, {"day", date}, {"end_day", date}},
       1,
       {{"bays", 2}, {"stations", 3}, {"tariffs", 4}, {"days", 5}, {"end_date", 5}}},
      {"visits",
       {{"visit", integer}, {"bay", integer}, {"lane", integer}, {"kind", text}, {"day", date}},
       1,
       {{"bays", 2}, {"stations", 3}, {"days", 5}, {"categories", 6}}},
      {"bays", {{"bay", integer}, {"station", integer}}, 1, {{"stations", 3}}},
      {"stations", {{"station", integer}, {"region", text}}, 1, {}},
      {"tariffs", {{"tariff", text}, {"price", {TypeKind::decimal, 2}}}, 1, {}},
      {"days", {{"day", date}, {"year", integer}, {"month", integer}, {"weekday", integer}}, 1, {}},
      {"categories", {{"lane", integer}, {"kind", text}, {"label", text}}, 0, {}},
      {"permits", {{"tariff", text}, {"lane", integer}, {"kind", text}}, 0, {{"tariffs", 4}, {"categories", 6}}}};
  model.roles = {{"end_date", 0, 5}};
  model.links = {"sessions.bay -> bays.bay",         "visits.bay -> bays.bay",
                 "bays.station -> stations.station", "sessions.tariff -> tariffs.tariff",
                 "sessions.day -> days.day",         "sessions.end_day -> days.day as end_date",
                 "visits.day -> days.day",           "visits.(lane, kind) -> categories.(lane, kind)",
                 "permits.tariff -> tariffs.tariff", "permits.(lane, kind) -> categories.(lane, kind)"};
  model.calculated.resize(model.tables.size());
  model.rows_clauses.resize(model.tables.size());
  if (chance(random, 25)) model.rows_clauses[model.find("sessions")] = " sorted by (bay, end_day)";
  if (chance(random, 25)) model.rows_clauses[model.find("bays")] = " reached from (sessions, visits) sorted by station";
  if (chance(random, 25)) model.rows_clauses[model.find("stations")] = " reached from bays";
  for (TableInfo& table : model.tables) widen(random, table, 1 + pick(random, 3));
  for (const TableInfo& table : model.tables) {
    std::vector<std::vector<std::string>> rows;
    std::vector<std::string> keys;
    const std::size_t wanted = table.routes.empty() ? 1 + pick(random, 8) : pick(random, most_rows + 1);
    for (std::size_t i = 0; i < wanted; ++i) {
      std::vector<std::string> row;
      for (const ColumnInfo& column : table.columns) row.push_back(random_field(random, column.type));
      if (table.columns[0].name == "id" || table.columns[0].name == "visit") row[0] = std::to_string(100 - i * 3 % 97);
      if (table.name == "days" && !row[0].empty()) {
        row[1] = row[0].substr(0, 4);
        row[2] = std::to_string(std::stoi(row[0].substr(5, 2)));
      }
      // Keys are unique and not null; those of categories are two columns.
      const std::string key = table.keys == 1 ? row[0] : row[0] + "|" + row[1];
      if (table.name == "permits") {
        rows.push_back(std::move(row));
        continue;
      }
      if ((table.keys == 1 && row[0].empty()) || std::find(keys.begin(), keys.end(), key) != keys.end()) continue;
      keys.push_back(key);
      rows.push_back(std::move(row));
    }
    model.rows.push_back(std::move(rows));
  }
  return model;
}

}  // namespace juniper::test
