// How well the links fit.
#include <fmt/format.h>

#include <algorithm>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/figures.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;
}  // namespace

Report report(const LinkReport& links) {
  const std::vector<LinkUse>& uses = links.links;
  Table table{"links",
              InCsv::with_all,
              {left("link", "link"), right("many_rows", "many side"), right("many_keys", "keys"),
               right("null_rows", "null keys"), right("one_rows", "one side"),
               right("one_nulls", "null keys there", Audience::programs), right("used_rows", "used"),
               right("unused_rows", "unused"), right("used_share", "share used"), right("orphan_keys", "orphan keys"),
               right("orphan_rows", "in rows"), right("bytes", "bytes"), left("broken", "broken", Audience::programs)},
              {}};
  cell::give_way(table,
                 {"one_nulls", "bytes", "null_rows", "used_share", "many_keys", "used_rows", "many_rows", "one_rows"});
  Table broken{"broken", InCsv::with_all, {left("link", "link"), left("reason", "why nothing can cross it")}, {}};
  Table orphans{"orphans",
                InCsv::with_all,
                {left("link", "link"), left("key", "orphan key"), left("last", "last", Audience::programs),
                 right("keys", "keys", Audience::programs), right("rows", "rows")},
                {}};
  for (const LinkUse& use : uses) {
    const auto known = [&](Cell cell) { return use.broken.empty() ? std::move(cell) : Cell(); };
    table.rows.push_back({{cell::text(use.link), cell::count(use.many_rows), known(cell::count(use.many_keys)),
                           known(cell::count(use.null_rows)), cell::count(use.one_rows), cell::count(use.one_nulls),
                           known(cell::count(use.used_rows)), known(cell::count(use.unused_rows())),
                           known(cell::share(use.used_rows, use.one_rows)), known(cell::count(use.orphan_keys)),
                           known(cell::count(use.orphan_rows)), cell::bytes(use.bytes), cell::text(use.broken)},
                          use.orphan_keys != 0 || !use.broken.empty()});
    if (!use.broken.empty()) broken.rows.push_back({{cell::text(use.link), cell::text(use.broken)}});
    if (use.one_nulls != 0) {
      // Shown to people where it occurs at all.
      for (TableColumn& column : table.columns) {
        if (column.name == "one_nulls") column.audience = Audience::all;
      }
    }
    for (const OrphanKey& orphan : use.samples) {
      Cell key = cell::text(orphan.key);
      if (!orphan.last.empty())
        key.shown = fmt::format("{} to {}, {} days", orphan.key, orphan.last, base::grouped(orphan.keys));
      orphans.rows.push_back({{cell::text(use.link), key, orphan.last.empty() ? Cell{} : cell::text(orphan.last),
                               cell::count(orphan.keys), cell::count(orphan.rows)}});
    }
  }
  Report made;
  made.blocks.push_back(report_figures::diagram(links, {}));
  made.blocks.push_back(Heading{"Links, many side to one"});
  made.blocks.push_back(std::move(table));
  if (!broken.rows.empty()) {
    made.blocks.push_back(Heading{"Broken links: queries that cross one are refused"});
    made.blocks.push_back(std::move(broken));
  }
  made.blocks.push_back(Heading{"Keys without a match, the most frequent of each link"});
  if (orphans.rows.empty())
    made.blocks.push_back(
        Paragraph{broken.rows.empty() ? "Every key has its match." : "Every key of the other links has its match."});
  made.blocks.push_back(std::move(orphans));
  // A line for each measure, a column for each link with orphans.
  Table measures{"orphan_measures", InCsv::with_all, {left("measure", "measure")}, {}};
  std::vector<std::string> names;
  for (const LinkUse& use : uses) {
    if (use.orphan_measures.empty()) continue;
    measures.columns.push_back(right(use.link, use.link.substr(0, use.link.find(" -> "))));
    for (const OrphanMeasure& m : use.orphan_measures) {
      if (std::find(names.begin(), names.end(), m.measure) == names.end()) names.push_back(m.measure);
    }
  }
  for (const std::string& name : names) {
    TableRow row{{cell::text(name)}, false};
    for (const LinkUse& use : uses) {
      if (use.orphan_measures.empty()) continue;
      const auto found = std::find_if(use.orphan_measures.begin(), use.orphan_measures.end(),
                                      [&](const OrphanMeasure& m) { return m.measure == name; });
      row.cells.push_back(found == use.orphan_measures.end()
                              ? Cell()
                              : cell::value(found->value, base::ValueFormat(found->type, found->format)));
    }
    measures.rows.push_back(std::move(row));
  }
  if (!measures.rows.empty()) {
    made.blocks.push_back(Heading{"What the rows without a match add up to: reports show it under an empty name"});
    made.blocks.push_back(std::move(measures));
  }
  Table trims{"trims",
              InCsv::with_all,
              {left("table", "table"), right("rows", "rows"), right("used_rows", "used by links"),
               right("used_share", "share used"), right("bytes", "bytes"), right("saved_bytes", "saved by trimming")},
              {}};
  for (const Trim& t : links.trims) {
    trims.rows.push_back({{cell::text(t.table), cell::count(t.rows), cell::count(t.used_rows),
                           cell::share(t.used_rows, t.rows), cell::bytes(t.bytes), cell::bytes(t.saved_bytes)},
                          t.used_rows * 2 < t.rows});
  }
  if (!trims.rows.empty()) {
    made.blocks.push_back(Heading{"Rows that no link reaches, and what the columns would be without them"});
    made.blocks.push_back(std::move(trims));
  }
  if (links.calendar.empty()) return made;
  Table gaps{"calendar_gaps",
             InCsv::with_all,
             {left("first", "first missing day"), left("last", "last"), right("days", "days")},
             {}};
  const base::ValueFormat date({TypeKind::date, 0});
  const auto day = [&](std::int64_t days) { return cell::value(Value::of(static_cast<int128>(days)), date); };
  for (const CalendarGap& gap : links.gaps)
    gaps.rows.push_back(
        {{day(gap.first), day(gap.last), cell::count(static_cast<std::uint64_t>(gap.last - gap.first + 1))}});
  made.blocks.push_back(Heading{"Days that the calendar " + links.calendar + " lacks"});
  if (gaps.rows.empty()) made.blocks.push_back(Paragraph{"None between its first and its last."});
  made.blocks.push_back(std::move(gaps));
  return made;
}

}  // namespace juniper
