// The rows of a query.
#include <fmt/format.h>

#include <algorithm>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::joined;
using report_cells::left;
using report_cells::plural;

TableRow row_of(const QueryResult& result, const ResultRow& row, const std::vector<base::ValueFormat>& formats) {
  TableRow drawn{{}, row.level != 0};
  drawn.cells.reserve(result.columns.size() + 1);
  drawn.cells.push_back(cell::text(result.levels[row.level]));
  bool said_total = false;
  for (std::size_t i = 0; i < result.columns.size(); ++i) {
    const ResultColumn& column = result.columns[i];
    Cell c = cell::value(row.cells[i], formats[i]);
    if (column.is_key && !result.kept[row.level][i]) {
      c.shown = said_total ? "" : "total";
      said_total = true;
    } else if (column.is_key && row.cells[i].is_null()) {
      c.shown = "(null)";
    }
    drawn.cells.push_back(std::move(c));
  }
  return drawn;
}

// What live tables have done for an answer: "2 statements, 14 rows moved, "; "" where none was asked.
std::string moved_text(const QueryResult& result) {
  if (result.statements == 0) return "";
  return fmt::format("{}, {} rows moved, ", plural(result.statements, "statement"), base::grouped(result.rows_moved));
}

// What stands around the rows, and the table without them.
Report report_around(const QueryResult& result, Table table, bool has_footer) {
  const std::string level = cell::level_name(result);
  table.name = "rows";
  table.in_csv = InCsv::alone;
  table.columns = {left(level, level, Audience::programs)};
  for (const ResultColumn& column : result.columns)
    table.columns.push_back({column.name, column.name, column.type.is_number(), Audience::all});
  Report made;
  if (!result.title.empty()) made.blocks.push_back(Heading{result.title});
  made.blocks.push_back(std::move(table));
  if (has_footer) {
    made.blocks.push_back(Paragraph{fmt::format("{}, {} rows read, {}{}", plural(result.rows.size(), "row"),
                                                base::grouped(result.rows_scanned), moved_text(result),
                                                base::format_nanoseconds(result.nanoseconds))});
  }
  if (!result.notes.empty()) made.blocks.push_back(Fact{"note", "note", cell::text(joined(result.notes, "; "))});
  return made;
}

}  // namespace

Report report(const QueryResult& result) {
  const auto formats = cell::formats_of(result.columns);
  Table table;
  table.rows.reserve(result.rows.size());
  for (const ResultRow& row : result.rows) table.rows.push_back(row_of(result, row, formats));
  return report_around(result, std::move(table), true);
}

void render(const QueryResult& result, const RenderOptions& options, const Sink& sink) {
  const auto formats = cell::formats_of(result.columns);
  Table table;
  if (!result.rows.empty()) {
    table.more = [&](const std::function<void(const TableRow&)>& visit) {
      for (const ResultRow& row : result.rows) visit(row_of(result, row, formats));
    };
  }
  render(report_around(result, std::move(table), options.footer), options, sink);
}

}  // namespace juniper
