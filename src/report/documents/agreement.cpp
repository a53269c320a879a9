// What another engine says.
#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;
}  // namespace

Report report(const Agreement& agreement) {
  Report made;
  made.blocks.push_back(Fact{"same",
                             "same",
                             {Cell::Kind::boolean, agreement.same() ? "yes: every cell" : "NO: see the cells below",
                              agreement.same() ? "true" : "false"}});
  made.blocks.push_back(Fact{"rows", "rows", cell::count(agreement.rows)});
  made.blocks.push_back(Fact{"cells", "cells", cell::count(agreement.cells)});
  made.blocks.push_back(Fact{"different", "different", cell::count(agreement.different)});
  made.blocks.push_back(Fact{"engine_nanoseconds", "engine", cell::nanoseconds(agreement.engine_nanoseconds)});
  made.blocks.push_back(Fact{"sqlite_nanoseconds", "SQLite", cell::nanoseconds(agreement.sqlite_nanoseconds)});
  Table table{"cells_that_differ",
              InCsv::with_all,
              {left("level", "level"), left("row", "row"), left("column", "column"), right("engine", "engine"),
               right("sqlite", "SQLite")},
              {}};
  for (const DifferentCell& c : agreement.samples) {
    table.rows.push_back(
        {{cell::text(c.level), cell::text(c.row), cell::text(c.column), cell::text(c.engine), cell::text(c.sqlite)},
         true});
  }
  if (!agreement.same()) made.blocks.push_back(std::move(table));
  return made;
}

}  // namespace juniper
