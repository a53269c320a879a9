// Which format, and who sees what.
#include "report/render/formats.h"

#include <fast_float/fast_float.h>

#include <algorithm>
#include <cmath>

#include "base/shown_text.h"

namespace juniper::render_formats {

bool seen(const TableColumn& column, Audience by) {
  return column.audience == Audience::all || column.audience == by;
}

bool is_for(const Table& table, Audience by) {
  return std::any_of(table.columns.begin(), table.columns.end(),
                     [by](const TableColumn& column) { return seen(column, by); });
}

double figure_of(const Cell& cell) {
  double value = 0;
  fast_float::from_chars(cell.exact.data(), cell.exact.data() + cell.exact.size(), value);
  return std::isfinite(value) ? value : 0;
}

bool has_facts(const Report& report) {
  return std::any_of(report.blocks.begin(), report.blocks.end(), [](const auto& block) {
    return std::holds_alternative<Fact>(block) || std::holds_alternative<Verbatim>(block);
  });
}

}  // namespace juniper::render_formats

namespace juniper {

bool is_number(Cell::Kind kind) {
  switch (kind) {
    case Cell::Kind::null:
    case Cell::Kind::text:
    case Cell::Kind::code:
    case Cell::Kind::place:
    case Cell::Kind::boolean:
      return false;
    case Cell::Kind::number:
    case Cell::Kind::count:
    case Cell::Kind::bytes:
    case Cell::Kind::duration:
    case Cell::Kind::share:
    case Cell::Kind::ratio:
    case Cell::Kind::change:
      break;
  }
  return true;
}

std::vector<std::string> part_names(const Report& report) {
  std::vector<std::string> names;
  for (const auto& block : report.blocks) {
    if (const Table* table = std::get_if<Table>(&block)) names.push_back(table->name);
  }
  if (render_formats::has_facts(report)) names.emplace_back(render_formats::facts_name);
  return names;
}

std::string visible(std::string_view text) {
  return base::lines(text);
}

std::string folded_code(std::string_view text, std::size_t columns) {
  const std::string shown = base::lines(text);
  std::string out;
  char quote = 0;
  for (std::size_t begin = 0; begin < shown.size();) {
    const std::size_t end = std::min(shown.find('\n', begin), shown.size());
    const auto lines =
        base::folded_code(std::string_view(shown).substr(begin, end - begin), std::max<std::size_t>(columns, 2), quote);
    for (const std::string& line : lines) out += line + "\n";
    begin = end + 1;
  }
  return out;
}

std::string clipped(std::string_view text, std::size_t columns) {
  return base::clipped(base::one_line(text), std::max<std::size_t>(columns, 1));
}

void render(const Report& report, const RenderOptions& options, const Sink& sink) {
  render_formats::Out out(sink);
  switch (options.format) {
    case Format::terminal:
      render_formats::terminal(report, options.color, options.width, out);
      break;
    case Format::json:
      render_formats::json(report, out);
      break;
    case Format::csv:
      render_formats::csv(report, options.part, out);
      break;
    case Format::markdown:
      render_formats::markdown(report, options.part, out);
      break;
    case Format::html:
      render_formats::html(report, options.title, out);
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
