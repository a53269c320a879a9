// For programs, as CSV: the part that is asked for, the one that stands alone, or all of them, one behind the other.
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

// RFC 4180, with LF; null is an empty field and the empty text a quoted one.
std::string csv_field(const Cell& cell) {
  if (cell.kind == Cell::Kind::null) return "";
  const std::string& text = cell.exact;
  if (!text.empty() && text.find_first_of(",\"\r\n") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) {
    if (c == '"') quoted += '"';
    quoted += c;
  }
  return quoted + "\"";
}

// A line for names, and one for values.
void facts(const Report& report, Out& out) {
  std::string names;
  std::string values;
  const auto add = [&](const std::string& name, const Cell& value) {
    names += (names.empty() ? "" : ",") + csv_field({Cell::Kind::text, "", name});
    values += (values.empty() ? "" : ",") + csv_field(value);
  };
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block)) add(fact->name, fact->value);
    if (const Verbatim* text = std::get_if<Verbatim>(&block)) add(text->name, {Cell::Kind::text, "", text->text});
  }
  if (!names.empty()) out += names + "\n" + values + "\n";
}

void rows(const Table& table, Out& out) {
  std::string text;
  const auto line = [&](const auto& field) {
    text.clear();
    bool first = true;
    for (std::size_t i = 0; i < table.columns.size(); ++i) {
      if (!seen(table.columns[i], Audience::programs)) continue;
      text += first ? "" : ",";
      text += csv_field(field(i));
      first = false;
    }
    text += "\n";
    out += text;
  };
  line([&](std::size_t i) { return Cell{Cell::Kind::text, "", table.columns[i].name}; });
  each_row(table, [&](const TableRow& row) {
    if (row.audience != Audience::people) line([&](std::size_t i) -> const Cell& { return row.cells[i]; });
  });
}

}  // namespace

void csv(const Report& report, const std::string& part, Out& out) {
  std::vector<const Table*> tables;
  for (const auto& block : report.blocks) {
    const Table* table = std::get_if<Table>(&block);
    if (table == nullptr || !is_for(*table, Audience::programs)) continue;
    if (part.empty() && table->in_csv == InCsv::alone) return rows(*table, out);
    if (part.empty() || table->name == part) tables.push_back(table);
  }
  const bool with_facts = part == facts_name || (part.empty() && has_facts(report));
  const bool several = tables.size() + (with_facts ? 1 : 0) > 1;
  const auto name = [&](std::string_view of) {
    out.gap();
    if (several) out += "part," + csv_field({Cell::Kind::text, "", std::string(of)}) + "\n";
  };
  if (with_facts) {
    name(facts_name);
    facts(report, out);
  }
  for (const Table* table : tables) {
    name(table->name);
    rows(*table, out);
  }
}

}  // namespace juniper::render_formats
