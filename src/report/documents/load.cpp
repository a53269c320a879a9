// What a load has done and cost, and what a verification has read.
#include <fmt/format.h>

#include <algorithm>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::bytes_change;
using report_cells::left;
using report_cells::right;
}  // namespace

Report report(const Verification& verification) {
  return {{Fact{"verified", "verified", cell::text(verification.store)},
           Fact{"columns", "columns", cell::count(verification.columns)},
           Fact{"links", "links", cell::count(verification.links)},
           Fact{"bytes", "bytes read, all as they should be", cell::bytes(verification.bytes)}}};
}

Report report(const LoadReport& load) {
  Report made;
  made.blocks.push_back(Fact{"store", "store", cell::text(load.store)});
  made.blocks.push_back(Fact{
      "loaded",
      load.loaded ? "loaded" : "fresh",
      {Cell::Kind::boolean, load.loaded ? "now" : "nothing has changed since it was loaded: the figures are from then",
       load.loaded ? "true" : "false"}});
  made.blocks.push_back(Fact{"source_bytes", "source", cell::bytes(load.source_bytes)});
  made.blocks.push_back(Fact{"file_bytes", "store file", cell::bytes(load.file_bytes)});
  made.blocks.push_back(Fact{"total_nanoseconds", "time", cell::nanoseconds(load.total_nanoseconds)});
  made.blocks.push_back(Heading{"Tables"});
  Table tables{"tables",
               InCsv::with_all,
               {left("table", "table"), right("rows", "rows"), right("rejected", "rejected"),
                right("unreached", "left out"), right("source_bytes", "source"), right("files", "files"),
                right("files_read", "read now"), right("bytes", "in store"), right("read_nanoseconds", "reading"),
                right("total_nanoseconds", "with computing and encoding")},
               {}};
  cell::give_way(tables, {"read_nanoseconds", "files_read", "files", "source_bytes"});
  std::uint64_t rejected = 0;
  std::uint64_t unreached = 0;
  for (const TableLoad& t : load.tables) {
    rejected += t.rejected;
    unreached += t.unreached;
    tables.rows.push_back(
        {{cell::text(t.table), cell::count(t.rows), cell::count(t.rejected), cell::count(t.unreached),
          cell::bytes(t.source_bytes), cell::count(t.files), cell::count(t.files_read), cell::bytes(t.bytes),
          cell::nanoseconds(t.read_nanoseconds), cell::nanoseconds(t.total_nanoseconds)}});
  }
  if (rejected == 0) cell::leave_to_programs(tables, "rejected");
  if (unreached == 0) cell::leave_to_programs(tables, "unreached");
  made.blocks.push_back(std::move(tables));
  if (!load.live.empty()) {
    Table live{"live_tables", InCsv::with_all, {left("table", "table"), left("place", "asked where it is")}, {}};
    for (const LiveLoad& table : load.live) live.rows.push_back({{cell::text(table.table), cell::text(table.place)}});
    made.blocks.push_back(Heading{"Live tables, of which nothing is loaded"});
    made.blocks.push_back(std::move(live));
  }
  if (rejected != 0) {
    made.blocks.push_back(
        Paragraph{fmt::format("{} rows were rejected when their files were read: every number below is without them.",
                              base::grouped(rejected))});
  }

  Table orders{"orders",
               InCsv::with_all,
               {left("table", "table"), left("columns", "rows sorted by"), right("saved_bytes", "saves"),
                left("file_order", "order of the files told by")},
               {}};
  for (const OrderLoad& o : load.orders) {
    Cell columns = cell::text(o.columns);
    if (o.columns.empty()) columns.shown = "as in the files: nothing is smaller, or nothing would tell their order";
    orders.rows.push_back({{cell::text(o.table), columns, bytes_change(o.saved_bytes), cell::text(o.file_order)}});
  }
  if (!orders.rows.empty()) {
    made.blocks.push_back(Heading{"Order of rows"});
    made.blocks.push_back(std::move(orders));
  }

  Table columns{"columns",
                InCsv::with_all,
                {left("table", "table"), left("column", "column"), left("calculated", "calculated"),
                 right("rows", "rows"), right("bytes", "in store"), right("evaluate_nanoseconds", "computing"),
                 right("encode_nanoseconds", "encoding"), left("carried", "computed")},
                {}};
  Table calculated{"calculated_columns", InCsv::with_all, columns.columns, {}};
  bool any_carried = false;
  for (const ColumnLoad& c : load.columns) {
    Cell carried = cell::boolean(c.carried);
    carried.shown = c.carried ? "before" : "now";
    any_carried = any_carried || c.carried;
    const TableRow row{{cell::text(c.table), cell::text(c.column), cell::boolean(c.calculated), cell::count(c.rows),
                        cell::bytes(c.bytes), cell::nanoseconds(c.evaluate_nanoseconds),
                        cell::nanoseconds(c.encode_nanoseconds), carried}};
    columns.rows.push_back(row);
    if (c.calculated) calculated.rows.push_back(row);
  }
  // People see what each calculated column cost; programs get every column.
  cell::leave_to_programs(calculated, "calculated");
  if (!any_carried) cell::leave_to_programs(calculated, "carried");
  std::stable_sort(calculated.rows.begin(), calculated.rows.end(), [&](const TableRow& a, const TableRow& b) {
    return std::stoull(a.cells[5].exact) + std::stoull(a.cells[6].exact) >
           std::stoull(b.cells[5].exact) + std::stoull(b.cells[6].exact);
  });
  made.blocks.push_back(Heading{"Calculated columns"});
  made.blocks.push_back(std::move(calculated));
  for (TableColumn& column : columns.columns) column.audience = Audience::programs;
  made.blocks.push_back(std::move(columns));
  Table link_table{"links",
                   InCsv::with_all,
                   {left("link", "link"), right("rows", "rows"), right("bytes", "in store"),
                    right("resolve_nanoseconds", "resolving")},
                   {}};
  for (const LinkLoad& l : load.links)
    link_table.rows.push_back(
        {{cell::text(l.link), cell::count(l.rows), cell::bytes(l.bytes), cell::nanoseconds(l.resolve_nanoseconds)}});
  made.blocks.push_back(Heading{"Links"});
  made.blocks.push_back(std::move(link_table));
  return made;
}

}  // namespace juniper
