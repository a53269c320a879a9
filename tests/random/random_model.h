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
};

struct TableInfo {
  std::string name;
  std::vector<ColumnInfo> columns;  // the first is the key, where there is one
  bool has_key = true;
  // Tables that its rows lead to, by the first step and the tables on the way: "stations" from "sessions".
  std::vector<std::size_t> leads_to;
};

struct RandomModel {
  std::vector<TableInfo> tables;
  std::vector<std::vector<std::vector<std::string>>> rows;  // by table, as CSV fields
  std::vector<std::string> links;
  std::vector<std::string> rows_clauses;  // by table, which rows it holds and in which order; or none
  std::vector<std::string> calculated;    // by table, columns to be added to its text
  std::vector<std::string> measures;      // declarations
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
