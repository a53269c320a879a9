// For programs, as CSV: the table that is asked for, or the one that is marked for it; of a document without one, its facts
// and texts as one row.
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

constexpr std::string_view facts_name = "facts";

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

}  // namespace

void csv(const Report& report, const std::string& name, Out& out) {
  for (const auto& block : report.blocks) {
    const Table* table = std::get_if<Table>(&block);
    if (table == nullptr || (name.empty() ? table->in_csv == InCsv::no : table->name != name)) continue;
    std::string text;
    const auto line = [&](const auto& field) {
      text.clear();
      bool first = true;
      for (std::size_t i = 0; i < table->columns.size(); ++i) {
        if (!seen(table->columns[i], Audience::programs)) continue;
        text += first ? "" : ",";
        text += csv_field(field(i));
        first = false;
      }
      text += "\n";
      out += text;
    };
    line([&](std::size_t i) { return Cell{Cell::Kind::text, "", table->columns[i].name}; });
    each_row(*table, [&](const TableRow& row) {
      if (row.audience != Audience::people) line([&](std::size_t i) -> const Cell& { return row.cells[i]; });
    });
    return;
  }
  if (name.empty() || name == facts_name) facts(report, out);
}

}  // namespace juniper::render_formats
