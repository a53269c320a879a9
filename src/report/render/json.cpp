// For programs, as JSON: all facts, texts and tables by name.
#include <fmt/format.h>

#include "base/json.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

using base::json_text;

// Numbers go into JSON as they are written, so that none loses digits.
std::string json_cell(const Cell& cell) {
  if (cell.kind == Cell::Kind::null) return "null";
  return cell.kind == Cell::Kind::boolean || is_number(cell.kind) ? cell.exact : json_text(cell.exact);
}

void json_table(const Table& table, Out& out) {
  std::vector<std::pair<std::size_t, std::string>> members;
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    if (!seen(table.columns[i], Audience::programs)) continue;
    members.emplace_back(i, (members.empty() ? "" : ", ") + json_text(table.columns[i].name) + ": ");
  }
  bool first = true;
  std::string line;
  out += "[";
  each_row(table, [&](const TableRow& row) {
    if (row.audience == Audience::people) return;
    line = first ? "\n    {" : ",\n    {";
    first = false;
    for (const auto& [i, name] : members) line.append(name).append(json_cell(row.cells[i]));
    out += line + "}";
  });
  out += first ? "]" : "\n  ]";
}

}  // namespace

void json(const Report& report, Out& out) {
  out += "{";
  bool first = true;
  const auto member = [&](const std::string& name) {
    out += fmt::format("{}\n  {}: ", first ? "" : ",", json_text(name));
    first = false;
  };
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block)) {
      member(fact->name);
      out += json_cell(fact->value);
    }
    if (const Verbatim* verbatim = std::get_if<Verbatim>(&block)) {
      member(verbatim->name);
      out += json_text(verbatim->text);
    }
    if (const Table* table = std::get_if<Table>(&block)) {
      member(table->name);
      json_table(*table, out);
    }
  }
  out += "\n}\n";
}

}  // namespace juniper::render_formats
