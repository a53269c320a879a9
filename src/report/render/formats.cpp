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

std::string visible(std::string_view text) {
  return base::lines(text);
}

std::string render(const Report& report, const RenderOptions& options) {
  switch (options.format) {
    case Format::terminal:
      return render_formats::terminal(report, options.color);
    case Format::json:
      return render_formats::json(report);
    case Format::csv:
      return render_formats::csv(report);
    case Format::markdown:
      return render_formats::markdown(report);
  }
  return "";
}

}  // namespace juniper
