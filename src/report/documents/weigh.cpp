// Where the bytes are, and what has changed since an earlier weighing.
#include <fmt/format.h>

#include <algorithm>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/figures.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::bytes_change;
using report_cells::left;
using report_cells::plural;
using report_cells::right;

// One line of the ranking: a column, a link, or what belongs to the file alone.
struct Part {
  std::string kind;
  std::string table;
  std::string name;
  const ColumnWeight* column = nullptr;
  std::uint64_t rows = 0;
  std::uint64_t dictionary_bytes = 0;
  std::uint64_t code_bytes = 0;
  std::uint64_t other_bytes = 0;
  std::string encoding;
  std::uint64_t total() const { return dictionary_bytes + code_bytes + other_bytes; }
  double bits() const { return rows == 0 ? 0 : 8.0 * static_cast<double>(total()) / static_cast<double>(rows); }
};

std::vector<Part> parts_of(const Weighing& weighing) {
  std::vector<Part> parts;
  for (const ColumnWeight& c : weighing.columns) {
    parts.push_back({c.calculated ? "calculated" : "column", c.table, c.column, &c, c.rows, c.dictionary_bytes,
                     c.code_bytes, 0, c.encoding});
  }
  for (const LinkWeight& l : weighing.links)
    parts.push_back({"link", l.table, l.link, nullptr, l.rows, 0, l.bytes, 0, l.encoding});
  parts.push_back({"file", "", "header, directory, model text", nullptr, 0, 0, 0, weighing.overhead_bytes, ""});
  return parts;
}

std::string_view figure_of(WeighOrder order) {
  switch (order) {
    case WeighOrder::bytes:
      return "bytes";
    case WeighOrder::name:
      return "name";
    case WeighOrder::rows:
      return "rows";
    case WeighOrder::distinct:
      return "distinct";
    case WeighOrder::nulls:
      return "nulls";
    case WeighOrder::bits:
      return "bits";
    case WeighOrder::uses:
      return "uses";
  }
  return "";
}

void sort_parts(std::vector<Part>& parts, WeighOrder order) {
  const auto by = [&](const auto& key) {
    std::stable_sort(parts.begin(), parts.end(), [&](const Part& a, const Part& b) { return key(a) > key(b); });
  };
  const auto of_column = [](const Part& p, auto member) { return p.column == nullptr ? 0 : p.column->*member; };
  switch (order) {
    case WeighOrder::bytes:
      return by([](const Part& p) { return p.total(); });
    case WeighOrder::rows:
      return by([](const Part& p) { return p.rows; });
    case WeighOrder::bits:
      return by([](const Part& p) { return p.bits(); });
    case WeighOrder::distinct:
      return by([&](const Part& p) { return of_column(p, &ColumnWeight::distinct); });
    case WeighOrder::nulls:
      return by([&](const Part& p) { return of_column(p, &ColumnWeight::nulls); });
    case WeighOrder::uses:
      // Heavy and seldom asked for first.
      by([](const Part& p) { return p.total(); });
      return by([](const Part& p) {
        return p.column == nullptr ? -1.0
                                   : static_cast<double>(p.total()) / static_cast<double>(p.column->logged_queries + 1);
      });
    case WeighOrder::name:
      return std::stable_sort(parts.begin(), parts.end(), [](const Part& a, const Part& b) {
        return std::pair(a.table, a.name) < std::pair(b.table, b.name);
      });
  }
}

// A link is named by where it starts and the table it leads to: what people need to know it again.
std::string shown_name(const Part& part) {
  if (part.kind == "column" || part.kind == "calculated") return part.table + "." + part.name;
  const std::size_t key = part.name.rfind('.');
  const std::size_t role = part.name.find(" as ");
  if (part.kind != "link" || key == std::string::npos) return part.name;
  return part.name.substr(0, key) + (role == std::string::npos ? "" : part.name.substr(role));
}

// "revenue" for one user, "5 measures, 1 link" for several, "nothing" where nobody needs it.
std::string kind_in_short(UserKind kind) {
  if (kind == UserKind::calculated_column) return "column";
  return kind == UserKind::row_order ? "order of rows" : std::string(to_string(kind));
}

std::string uses_in_short(const std::vector<ColumnUse>& uses) {
  if (uses.empty()) return "nothing";
  if (uses.size() == 1 && uses[0].kind != UserKind::link && uses[0].kind != UserKind::row_order) return uses[0].name;
  std::string text;
  for (std::size_t begin = 0; begin < uses.size();) {
    std::size_t end = begin;
    while (end < uses.size() && uses[end].kind == uses[begin].kind) ++end;
    const UserKind kind = uses[begin].kind;
    text += (text.empty() ? "" : ", ") + plural(end - begin, kind_in_short(kind));
    begin = end;
  }
  return text;
}

std::string uses_in_full(const std::vector<ColumnUse>& uses) {
  std::string text;
  for (const ColumnUse& use : uses)
    text += fmt::format("{}{} {}", text.empty() ? "" : "; ", to_string(use.kind), use.name);
  return text;
}

Table part_table(const Weighing& weighing, const std::vector<Part>& parts, std::size_t top) {
  Table table{
      "parts",
      InCsv::with_all,
      {left("kind", "kind"), left("table", "table", Audience::programs), left("name", "name", Audience::programs),
       left("part", "part", Audience::people), right("rows", "rows", Audience::programs), right("distinct", "distinct"),
       right("nulls", "nulls"), right("dictionary_bytes", "dictionary"), right("code_bytes", "codes"),
       right("other_bytes", "other", Audience::programs), right("total_bytes", "total"),
       right("share_of_file", "share"), right("bits_per_row", "bits/row"), left("encoding", "encoding"),
       left("type", "type", Audience::programs), left("min", "min", Audience::programs),
       left("max", "max", Audience::programs), left("used_by", "used by"),
       right("logged_queries", "queries of the log", weighing.has_log ? Audience::all : Audience::programs)},
      {}};
  cell::compare_by(table, "total_bytes");
  cell::give_way(table, {"nulls", "dictionary_bytes", "code_bytes", "bits_per_row", "encoding", "kind", "used_by",
                         "distinct", "logged_queries", "share_of_file"});
  for (const Part& p : parts) {
    if (top != 0 && table.rows.size() == top) break;
    const ColumnWeight* c = p.column;
    Cell used;
    if (c != nullptr) {
      used = cell::text(uses_in_short(c->used_by));
      used.exact = uses_in_full(c->used_by);
    }
    table.rows.push_back(
        {{cell::text(p.kind), cell::text(p.table), cell::text(p.name), cell::text(shown_name(p)),
          p.kind == "file" ? Cell{} : cell::count(p.rows), c != nullptr ? cell::count(c->distinct) : Cell{},
          c != nullptr ? cell::count(c->nulls) : Cell{},
          p.dictionary_bytes == 0 ? Cell{Cell::Kind::number, "", "0"} : cell::bytes(p.dictionary_bytes),
          p.code_bytes == 0 ? Cell{Cell::Kind::number, "", "0"} : cell::bytes(p.code_bytes), cell::bytes(p.other_bytes),
          cell::bytes(p.total()), cell::share(p.total(), weighing.file_bytes),
          p.kind == "file" ? Cell{} : cell::number(p.bits(), 1), cell::text(p.encoding),
          c != nullptr ? cell::text(to_string(c->type)) : Cell{},
          c != nullptr ? cell::value(c->min, base::ValueFormat(c->type)) : Cell{},
          c != nullptr ? cell::value(c->max, base::ValueFormat(c->type)) : Cell{}, used,
          c != nullptr && weighing.has_log ? cell::count(c->logged_queries) : Cell{}}});
  }
  return table;
}

Table weight_tables(const Weighing& weighing) {
  Table table{"tables",
              InCsv::with_all,
              {left("table", "table"), right("rows", "rows"), right("source_bytes", "source"),
               right("dictionary_bytes", "dictionaries"), right("code_bytes", "codes"), right("link_bytes", "links"),
               right("total_bytes", "total"), right("share_of_file", "share")},
              {}};
  cell::compare_by(table, "total_bytes");
  cell::give_way(table, {"link_bytes", "code_bytes", "dictionary_bytes", "source_bytes", "share_of_file"});
  const auto add = [&](std::string name, const TableWeight& t, std::uint64_t total, bool strong) {
    table.rows.push_back({{cell::text(std::move(name)), strong ? Cell{} : cell::count(t.rows),
                           cell::bytes(t.source_bytes), cell::bytes(t.dictionary_bytes), cell::bytes(t.code_bytes),
                           cell::bytes(t.link_bytes), cell::bytes(total), cell::share(total, weighing.file_bytes)},
                          strong});
  };
  TableWeight sum;
  for (const TableWeight& t : weighing.tables) {
    add(t.table, t, t.total_bytes(), false);
    sum.source_bytes += t.source_bytes;
    sum.dictionary_bytes += t.dictionary_bytes;
    sum.code_bytes += t.code_bytes;
    sum.link_bytes += t.link_bytes;
  }
  add("all tables", sum, sum.total_bytes(), true);
  return table;
}

// What live tables hold, and what they take where they are.
void add_live(const Weighing& weighing, std::size_t top, Report& report) {
  if (weighing.live.empty()) return;
  const auto there = [](const std::optional<std::uint64_t>& bytes) { return bytes ? cell::bytes(*bytes) : Cell{}; };
  Table tables{"live_tables",
               InCsv::with_all,
               {left("table", "table"), left("place", "live on"), right("rows", "rows"), right("bytes", "bytes there"),
                right("index_bytes", "indexes there")},
               {}};
  cell::give_way(tables, {"index_bytes", "place"});
  std::vector<const ColumnWeight*> columns;
  for (const LiveWeight& live : weighing.live) {
    tables.rows.push_back({{cell::text(live.table), cell::text(live.place), cell::count(live.rows), there(live.bytes),
                            there(live.index_bytes)}});
    for (const ColumnWeight& column : live.columns) columns.push_back(&column);
  }
  std::stable_sort(columns.begin(), columns.end(), [](const ColumnWeight* a, const ColumnWeight* b) {
    return std::pair(a->there_bytes.value_or(0), a->distinct) > std::pair(b->there_bytes.value_or(0), b->distinct);
  });
  const std::size_t shown = top == 0 ? columns.size() : std::min(top, columns.size());
  Table table{"live_columns",
              InCsv::with_all,
              {left("table", "table", Audience::programs), left("name", "name", Audience::programs),
               left("column", "column", Audience::people), left("type", "type"), right("distinct", "distinct"),
               right("nulls", "nulls"), left("min", "least"), left("max", "most"), right("there_bytes", "bytes there"),
               left("used_by", "used by"),
               right("logged_queries", "queries of the log", weighing.has_log ? Audience::all : Audience::programs)},
              {}};
  cell::give_way(table, {"nulls", "type", "max", "min", "used_by"});
  for (std::size_t i = 0; i < shown; ++i) {
    const ColumnWeight& c = *columns[i];
    Cell used = cell::text(uses_in_short(c.used_by));
    used.exact = uses_in_full(c.used_by);
    const base::ValueFormat format(c.type);
    table.rows.push_back({{cell::text(c.table), cell::text(c.column), cell::text(c.table + "." + c.column),
                           cell::text(to_string(c.type)), cell::count(c.distinct), cell::count(c.nulls),
                           cell::value(c.min, format), cell::value(c.max, format), there(c.there_bytes), used,
                           weighing.has_log ? cell::count(c.logged_queries) : Cell{}}});
  }
  report.blocks.push_back(Heading{"Live tables, which take no bytes here"});
  report.blocks.push_back(std::move(tables));
  report.blocks.push_back(Heading{shown == columns.size()
                                      ? fmt::format("Their {}", plural(columns.size(), "column"))
                                      : fmt::format("The first {} of their {} columns", shown, columns.size())});
  report.blocks.push_back(std::move(table));
}

}  // namespace

Report report(const Weighing& weighing, const WeighView& view) {
  std::vector<Part> parts = parts_of(weighing);
  sort_parts(parts, view.sort);
  Report made;
  made.blocks.push_back(Fact{"model", "model", cell::text(weighing.model)});
  Cell file = cell::bytes(weighing.file_bytes);
  file.shown += fmt::format(" ({} bytes)", base::grouped(weighing.file_bytes));
  made.blocks.push_back(Fact{"file_bytes", "store file", file});
  Cell source = cell::bytes(weighing.source_bytes);
  if (weighing.file_bytes != 0)
    source.shown += fmt::format(", {:.1f} times the store",
                                static_cast<double>(weighing.source_bytes) / static_cast<double>(weighing.file_bytes));
  made.blocks.push_back(Fact{"source_bytes", "source files", source});
  made.blocks.push_back(Fact{"overhead_bytes", "file overhead", cell::bytes(weighing.overhead_bytes)});
  made.blocks.push_back(report_figures::treemap(weighing, {}));
  add_live(weighing, view.top, made);
  made.blocks.push_back(Heading{"Tables"});
  made.blocks.push_back(weight_tables(weighing));
  const std::size_t shown = view.top == 0 ? parts.size() : std::min(view.top, parts.size());
  made.blocks.push_back(
      Heading{shown == parts.size()
                  ? fmt::format("All {} parts of the file, by {}", parts.size(), figure_of(view.sort))
                  : fmt::format("The first {} of {} parts, by {}", shown, parts.size(), figure_of(view.sort))});
  made.blocks.push_back(part_table(weighing, parts, view.top));
  std::uint64_t not_shown = 0;
  for (std::size_t i = shown; i < parts.size(); ++i) not_shown += parts[i].total();
  const std::string rest =
      shown == parts.size()
          ? ""
          : fmt::format("The other {}: {}. ", plural(parts.size() - shown, "part"), base::format_bytes(not_shown));
  made.blocks.push_back(Paragraph{fmt::format("{}All {} parts together: {} bytes, the size of the file.", rest,
                                              parts.size(), base::grouped(weighing.file_bytes))});
  const auto unused = static_cast<std::size_t>(std::count_if(weighing.columns.begin(), weighing.columns.end(),
                                                             [](const ColumnWeight& c) { return c.is_unused(); }));
  std::uint64_t unused_bytes = 0;
  for (const ColumnWeight& c : weighing.columns) unused_bytes += c.is_unused() ? c.total_bytes() : 0;
  if (weighing.has_log) {
    made.blocks.push_back(Paragraph{fmt::format("The log holds {}, of which the model does not understand {}.",
                                                plural(weighing.logged_queries, "query"), weighing.not_understood)});
  }
  if (unused != 0)
    made.blocks.push_back(Paragraph{fmt::format(
        "{} used by nothing: {}, {} of the file.", unused == 1 ? "1 column is" : fmt::format("{} columns are", unused),
        base::format_bytes(unused_bytes), cell::share(unused_bytes, weighing.file_bytes).shown)});
  return made;
}

Report report(const WeightChanges& changes, std::size_t top) {
  Report made;
  const auto change = static_cast<std::int64_t>(changes.after_bytes) - static_cast<std::int64_t>(changes.before_bytes);
  made.blocks.push_back(Fact{"before_bytes", "before", cell::bytes(changes.before_bytes)});
  made.blocks.push_back(Fact{"after_bytes", "now", cell::bytes(changes.after_bytes)});
  Cell difference = bytes_change(change);
  if (changes.before_bytes != 0 && change != 0) {
    difference.shown +=
        fmt::format(" ({:+.1f}%)", 100.0 * static_cast<double>(change) / static_cast<double>(changes.before_bytes));
  }
  made.blocks.push_back(Fact{"change_bytes", "change", difference});
  Table table{"parts",
              InCsv::with_all,
              {left("table", "table"), left("name", "part"), left("what", "what"), right("before_bytes", "before"),
               right("after_bytes", "now"), right("change_bytes", "change"), right("before_rows", "rows before"),
               right("after_rows", "rows now"), right("before_distinct", "distinct before"),
               right("after_distinct", "distinct now")},
              {}};
  cell::give_way(table, {"before_rows", "after_rows", "before_distinct", "after_distinct"});
  for (const PartChange& part : changes.parts) {
    if (top != 0 && table.rows.size() == top) break;
    const auto figure = [](const std::optional<PartWeight>& weight, const auto& get) {
      return weight ? get(*weight) : Cell();
    };
    const auto total = [](const PartWeight& w) { return cell::bytes(w.total_bytes()); };
    const auto rows = [](const PartWeight& w) { return cell::count(w.rows); };
    const auto distinct = [](const PartWeight& w) { return cell::count(w.distinct); };
    table.rows.push_back(
        {{cell::text(part.table), cell::text(part.name),
          cell::text(!part.before  ? "new"
                     : !part.after ? "gone"
                                   : "changed"),
          figure(part.before, total), figure(part.after, total), bytes_change(part.bytes()), figure(part.before, rows),
          figure(part.after, rows), figure(part.before, distinct), figure(part.after, distinct)}});
  }
  made.blocks.push_back(Heading{"What differs, the largest change first"});
  if (changes.parts.empty()) made.blocks.push_back(Paragraph{"Nothing."});
  made.blocks.push_back(std::move(table));
  made.blocks.push_back(Paragraph{fmt::format(
      "{} the same.", changes.same_parts == 1 ? "1 part is" : fmt::format("{} parts are", changes.same_parts))});
  return made;
}

}  // namespace juniper
