// What an export has written.
#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

}  // namespace

Report report(const Export& written) {
  Table tables{"tables",
               InCsv::with_all,
               {cell::left("table", "table"), cell::left("file", "file"), cell::right("rows", "rows"),
                cell::right("columns", "columns")},
               {}};
  for (const ExportedTable& t : written.tables)
    tables.rows.push_back({{cell::text(t.table), cell::text(t.file), cell::count(t.rows), cell::count(t.columns)}});
  return {{Fact{"folder", "folder", cell::text(written.folder)}, Fact{"bytes", "bytes", cell::bytes(written.bytes)},
           Fact{"beside", "beside", cell::text(report_cells::joined(written.beside, ", "))}, std::move(tables)}};
}

Report report(const WrittenFile& file) {
  return {{Fact{"file", "file", cell::text(file.path)}, Fact{"bytes", "bytes", cell::bytes(file.bytes)}}};
}

}  // namespace juniper
