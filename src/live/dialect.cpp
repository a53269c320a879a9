// What the dialects share.
#include "live/dialect.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/sql_name.h"
#include "language/operations.h"

namespace juniper::live {

using namespace language;

void refuse(const std::string& engine, const std::string& what, const std::string& suggestion) {
  throw base::Failure(base::error("JR-713", fmt::format("{} can't be asked for this: {}", engine, what), suggestion));
}

std::string Dialect::name(const std::string& alias, const std::string& column) const {
  return fmt::format("{}.{}", alias, base::sql_name(column));
}

void Dialect::join(const std::string& relation, const std::string& alias, const std::vector<JoinedKey>& keys,
                   From& from) const {
  std::string on;
  for (const JoinedKey& key : keys) on += fmt::format("{}{} = {}", on.empty() ? "" : " AND ", key.many, key.one);
  from.tables += fmt::format("\n  LEFT JOIN {} AS {} ON {}", relation, alias, on);
}

int bits_of(const Value& number) {
  const int128 exact = number.exact();
  const int128 magnitude = exact < 0 ? -exact : exact;
  int bits = 1;
  while (bits < most_bits && (magnitude >> bits) != 0) ++bits;
  return bits;
}

int bits_of(const LookUp& look_up) {
  int most = 1;
  if (!look_up.type.is_exact_number()) return 64;
  const auto look = [&](const Value& value) {
    if (!value.is_null()) most = std::max(most, bits_of(value));
  };
  for (const Value& value : look_up.values) look(value);
  look(look_up.otherwise);
  return most;
}

void refuse_function(const std::string& engine, const Node& node) {
  refuse(engine, fmt::format("it has no {} that answers as this language does", id_of(node.function)),
         "compute it in a column of the table there, or load the table");
}

Sql joined_look_up(const LookUp& look_up, From& from, const std::function<std::string(const Value&, Type)>& literal) {
  const std::string alias = fmt::format("m${}", from.aliases++);
  std::string columns;
  std::string on;
  for (std::size_t k = 0; k < look_up.keys.size(); ++k) {
    columns += fmt::format("k{}, ", k);
    on += fmt::format("{}{} = {}.k{}", k == 0 ? "" : " AND ", look_up.keys[k].text, alias, k);
  }
  // A table of no rows has no types: one of nulls, which no key equals.
  std::string rows;
  const auto add = [&](const std::vector<Value>& key, const Value& value) {
    rows += rows.empty() ? "(" : ", (";
    for (std::size_t k = 0; k < key.size(); ++k) rows += literal(key[k], look_up.key_types[k]) + ", ";
    rows += literal(value, look_up.type) + ")";
  };
  for (std::size_t i = 0; i < look_up.rows.size(); ++i) add(look_up.rows[i], look_up.values[i]);
  if (rows.empty()) add(std::vector<Value>(look_up.keys.size()), Value());
  from.before.push_back(fmt::format("{}({}v) AS (VALUES {})", alias, columns, rows));
  from.tables += fmt::format("\n  LEFT JOIN {0} ON {1}", alias, on);
  const int bits = bits_of(look_up);
  if (look_up.otherwise.is_null()) return {alias + ".v", bits};
  return {fmt::format("(CASE WHEN {0}.k0 IS NULL THEN {1} ELSE {0}.v END)", alias,
                      literal(look_up.otherwise, look_up.type)),
          bits};
}

}  // namespace juniper::live
