// What a scan has proposed.
#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;
}  // namespace

Report report(const Scan& scan) {
  Table tables{"tables",
               InCsv::with_all,
               {left("table", "table"), left("source", "source"), right("files", "files"), right("rows", "rows"),
                right("columns", "columns"), left("key", "key"), right("links", "links")},
               {}};
  for (const ScannedTable& t : scan.tables) {
    tables.rows.push_back({{cell::text(t.table), cell::text(t.source), cell::count(t.files), cell::count(t.rows),
                            cell::count(t.columns), cell::text(t.key), cell::count(t.links)}});
  }
  return {{std::move(tables)}};
}

}  // namespace juniper
