// Random models of the charging network: tables with columns of all types, links with orphans, nulls and keys that
// nothing uses, and data small enough for the naive evaluator.
#pragma once

#include <map>
#include <optional>
#include <random>
#include <string>
#include <vector>

#include "juniper/value.h"

namespace juniper::test {

using Random = std::mt19937_64;

// A number from 0 to `below` - 1.
inline std::size_t pick(Random& random, std::size_t below) {
  return static_cast<std::size_t>(random() % below);
}
inline bool chance(Random& random, unsigned percent) {
  return random() % 100 < percent;
}

struct ColumnInfo {
  std::string name;
  Type type;
  std::string attributes = {};  // behind the type: from date("started"), sorted by rank
  std::string expression = {};  // of a calculated one
};

// A way over links from a table's rows, as it is written: "stations", "end_date", "bays.stations".
struct Route {
  std::string path;
  std::size_t table;
};

struct TableInfo {
  std::string name;
  std::vector<ColumnInfo> columns;
  std::size_t keys = 1;  // how many of the first columns are declared as keys
  std::vector<Route> routes;
  std::string rows = {};  // of a calculated table: "distinct(bays.kind)"

  bool leads_to(std::size_t table) const;
};

// The name of a link that is not followed by itself.
struct Role {
  std::string name;
  std::size_t from;
  std::size_t to;
};

// A function of the model: of values, or of one measure.
struct FunctionInfo {
  std::string name;
  Type type;
  std::vector<Type> arguments;
  bool is_of_measure = false;
  std::string text;  // its arguments and body: "(a, b) = a + b"
};

struct RandomModel {
  std::vector<TableInfo> tables;
  std::vector<std::vector<std::vector<std::string>>> rows;  // by table, as CSV fields
  std::vector<std::string> links;
  std::vector<Role> roles;
  bool has_calendar = true;  // days, with year, month and weekday
  // Literals of values that columns hold, by type.
  std::map<std::string, std::vector<std::string>> literals;
  bool has_real_keys = false;  // rows are told apart by reals, too
  // Holds numbers that SQL's of 64 bits can't add up: its answers are no measure.
  bool is_extreme = false;
  // Holds reals so far apart that what is computed of them differs in all digits with the order of additions.
  bool has_far_reals = false;
  std::vector<std::string> rows_clauses;  // by table, which rows it holds and in which order; or none
  std::vector<std::string> calculated;    // by table, columns to be added to its text
  std::vector<std::string> parameters;    // declarations
  std::vector<FunctionInfo> functions;
  std::vector<std::string> measures;  // declarations
  std::vector<ColumnInfo> measure_types;

  std::string text() const;
  std::map<std::string, std::string> files() const;
  std::size_t find(const std::string& table) const;
};

RandomModel random_model(Random& random, std::size_t most_rows);

// The CSV field of a random value of a type, empty for null.
std::string random_field(Random& random, Type type);
// A literal of the type as it is written in a model text, never null.
std::string random_literal(Random& random, Type type);

}  // namespace juniper::test
