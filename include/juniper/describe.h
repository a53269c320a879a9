// What a model defines: each table, column, measure, parameter, link and query, on what it rests and who uses it.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/model.h"

namespace [[gnu::visibility("default")]] juniper {

enum class DescribedKind : std::uint8_t {
  parameter,
  function,
  table,
  calculated_table,
  column,
  calculated_column,
  link,
  measure,
  query,
  reader,
};

// "table", "calculated column"
std::string_view to_string(DescribedKind kind);

struct Description {
  DescribedKind kind = DescribedKind::table;
  std::string name;  // "sessions.energy_kwh", "revenue"
  std::string type;  // of a value: "decimal(3)"; else ""
  std::string format;
  std::string description;
  std::string definition;  // its expression or clauses as they are written; "" for what is read from a source
  Place place;             // of its declaration
  std::vector<std::string> rests_on;  // what its definition names: columns, measures, parameters, tables
  std::vector<std::string> used_by;   // "measure price", "query monthly", "link sessions.bay_id -> bays.bay_id"
  bool hidden = false;
};

enum class Hidden : std::uint8_t { left_out, shown };

// Everything of a model in the order of its text, or what bears a name: a table gives its columns too, a column may be
// named with its table or alone. Errors: JR-215 (nothing bears the name). Hidden things are described when they are
// named.
Result<std::vector<Description>> describe(const Model& model, const std::string& name = "",
                                          Hidden hidden = Hidden::left_out);

}  // namespace juniper
