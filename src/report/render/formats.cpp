// Which format, and who sees what.
#include "report/render/formats.h"

#include <algorithm>

#include "base/shown_text.h"

namespace juniper::render_formats {

bool seen(const TableColumn& column, Audience by) {
  return column.audience == Audience::all || column.audience == by;
}

bool is_for_people(const Table& table) {
  return std::any_of(table.columns.begin(), table.columns.end(),
                     [](const TableColumn& column) { return seen(column, Audience::people); });
}

}  // namespace juniper::render_formats

namespace juniper {

std::vector<std::string> table_names(const Report& report) {
  std::vector<std::string> names;
  bool has_facts = false;
  for (const auto& block : report.blocks) {
    const Table* table = std::get_if<Table>(&block);
    if (table != nullptr) names.push_back(table->name);
    has_facts = has_facts || std::holds_alternative<Fact>(block) || std::holds_alternative<Verbatim>(block);
  }
  if (has_facts) names.emplace_back("facts");
  return names;
}

std::string visible(std::string_view text) {
  return base::lines(text);
}

void render(const Report& report, const RenderOptions& options, const Sink& sink) {
  render_formats::Out out(sink);
  switch (options.format) {
    case Format::terminal:
      render_formats::terminal(report, options.color, out);
      break;
    case Format::json:
      render_formats::json(report, out);
      break;
    case Format::csv:
      render_formats::csv(report, options.table, out);
      break;
    case Format::markdown:
      render_formats::markdown(report, out);
      break;
  }
  out.flush();
}

std::string render(const Report& report, const RenderOptions& options) {
  std::string text;
  render(report, options, [&](std::string_view part) { text += part; });
  return text;
}

}  // namespace juniper
