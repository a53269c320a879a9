// An unfolded measure as a document: the parts as a tree, then what each aggregate saw.
#include <fmt/format.h>

#include <algorithm>

#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;
using report_cells::left;
using report_cells::right;

Table tree(const Unfolding& unfolding) {
  Table table{
      "parts",
      InCsv::with_all,
      {right("part", "part", Audience::programs), left("kind", "kind", Audience::programs), left("text", "part"),
       right("value", "value"), right("seen", "rows in the slice"), right("kept", "that count"),
       right("skipped", "of these null"), left("place", "at"), right("depth", "depth", Audience::programs)},
      {}};
  cell::give_way(table, {"place", "skipped", "seen", "kept"});
  for (std::size_t i = 0; i < unfolding.parts.size(); ++i) {
    const UnfoldedPart& part = unfolding.parts[i];
    const bool aggregate = part.kind == UnfoldedKind::aggregate;
    const Cell text = cell::code(part.text, 64);
    Cell value = cell::value(part.value, base::ValueFormat(part.type, part.format));
    if (part.value.is_null()) value.shown = "null";
    table.rows.push_back({{cell::count(i), cell::text(std::string(to_string(part.kind))), text, value,
                           part.seen ? cell::count(*part.seen) : Cell{}, aggregate ? cell::count(part.kept) : Cell{},
                           aggregate && part.skipped > 0 ? cell::count(part.skipped) : Cell{}, cell::place(part.place),
                           cell::count(part.depth)},
                          i == 0,
                          Audience::all,
                          part.depth});
  }
  return table;
}

Table filters(const std::string& name, const UnfoldedPart& part) {
  Table table{name,
              InCsv::with_all,
              {left("filter", "filter"), left("place", "written at"), left("reaches", "what it does")},
              {}};
  for (const UnfoldedFilter& filter : part.filters) {
    Cell reaches{Cell::Kind::boolean,
                 filter.reaches ? "filters " + part.table + (filter.bridge.empty() ? "" : " through " + filter.bridge)
                                : "no link leads from " + part.table + " there",
                 filter.reaches ? "true" : "false"};
    table.rows.push_back({{cell::code(filter.text, 80), cell::place(filter.place), reaches}, false});
  }
  return table;
}

Table misses(const std::string& name, const UnfoldedPart& part) {
  Table table{name,
              InCsv::with_all,
              {left("link", "look-up without a match"), right("rows", "rows"), left("keys", "keys")},
              {}};
  for (const UnfoldedMiss& miss : part.misses) {
    std::string keys;
    for (const std::string& key : miss.keys) keys += (keys.empty() ? "" : ", ") + key;
    table.rows.push_back({{cell::text(miss.link), cell::count(miss.rows), cell::text(keys)}, true});
  }
  return table;
}

Table rows(const std::string& name, const UnfoldedPart& part) {
  Table table{name, InCsv::with_all, {}, {}};
  for (const UnfoldedColumn& column : part.columns) {
    const bool number = column.type.is_number();
    table.columns.push_back({column.name, cell::code(column.name, 40).shown, number, Audience::all});
  }
  const bool has_origin =
      std::any_of(part.rows.begin(), part.rows.end(), [](const UnfoldedRow& row) { return row.record != 0; });
  const Audience origin = has_origin ? Audience::all : Audience::programs;
  table.columns.push_back(left("file", "read from", origin));
  table.columns.push_back({"record", "record", true, origin});
  table.columns.push_back(left("skipped", ""));
  const auto formats = cell::formats_of(part.columns);
  for (const UnfoldedRow& row : part.rows) {
    TableRow made;
    for (std::size_t c = 0; c < row.cells.size(); ++c) {
      made.cells.push_back(cell::value(row.cells[c], formats[c]));
      if (row.cells[c].is_null()) made.cells.back().shown = "null";
    }
    made.cells.push_back(row.record != 0 ? cell::text(row.file) : Cell{});
    made.cells.push_back(row.record != 0 ? cell::count(row.record) : Cell{});
    made.cells.push_back({Cell::Kind::boolean, row.skipped ? "skipped" : "", row.skipped ? "true" : "false"});
    table.rows.push_back(std::move(made));
  }
  return table;
}

}  // namespace

Report report(const Unfolding& unfolding) {
  Report made;
  made.blocks.push_back(tree(unfolding));
  for (std::size_t i = 0; i < unfolding.parts.size(); ++i) {
    const UnfoldedPart& part = unfolding.parts[i];
    if (part.kind != UnfoldedKind::aggregate) continue;
    made.blocks.push_back(Heading{cell::code(part.text, 100).shown});
    if (part.seen) {
      made.blocks.push_back(
          Paragraph{fmt::format("{} rows of {}, of which the slice's filters leave {}.", cell::count(*part.all).shown,
                                part.table, cell::count(*part.seen).shown)});
    }
    if (!part.filters.empty()) made.blocks.push_back(filters(fmt::format("filters_of_{}", i), part));
    if (!part.misses.empty()) made.blocks.push_back(misses(fmt::format("misses_of_{}", i), part));
    if (!part.rows.empty()) made.blocks.push_back(rows(fmt::format("rows_of_{}", i), part));
  }
  return made;
}

}  // namespace juniper
