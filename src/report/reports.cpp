// The library's results as documents: which figures stand in which table, under which heading.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <numeric>
#include <set>

#include "base/diagnostics.h"
#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/comparisons.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;

// "1 row", "3 rows", "2 queries"
std::string plural(std::uint64_t count, std::string word) {
  if (count != 1 && word.ends_with('y')) word.replace(word.size() - 1, 1, "ie");
  return fmt::format("{} {}{}", base::grouped(count), word, count == 1 ? "" : "s");
}

}  // namespace

// --- audit ----------------------------------------------------------------------------------------------------------

Report report(const Audit& audit) {
  Table findings{
      "findings",
      InCsv::yes,
      {right("saved_bytes", "saves"), right("saved_share", "of the file"), left("code", "code"), left("title", "what"),
       left("subject", "where"), left("place", "place", Audience::people), left("evidence", "evidence"),
       left("file", "file", Audience::programs), right("line", "line", Audience::programs),
       right("column", "column", Audience::programs), left("reason", "reason", Audience::programs),
       left("remedy", "remedy", Audience::programs), left("step", "step", Audience::programs),
       left("query", "query", Audience::programs), left("estimated", "estimated", Audience::programs)},
      {}};
  // What to do and why, once for all findings of which it is the same.
  Table remedies{"remedies",
                 InCsv::no,
                 {left("code", "code", Audience::people), left("reason", "why it matters", Audience::people),
                  left("remedy", "what to do", Audience::people)},
                 {}};
  std::set<std::pair<std::string, std::string>> told;
  std::uint64_t saved = 0;
  for (const Finding& f : audit.findings) {
    const bool measured = f.saved_bytes.has_value();
    saved += f.saved_bytes.value_or(0);
    findings.rows.push_back(
        {{measured ? cell::bytes(*f.saved_bytes) : Cell(),
          measured ? cell::share(*f.saved_bytes, audit.file_bytes) : Cell(), cell::text(f.code), cell::text(f.title),
          cell::text(f.subject), cell::place(f.place), cell::text(f.evidence), cell::text(f.place.file),
          cell::count(f.place.line), cell::count(f.place.column), cell::text(f.reason), cell::text(f.remedy),
          cell::text(f.step), cell::text(f.query), cell::boolean(f.estimated)}});
    // Steps of a kind are carried out together.
    std::string remedy = f.remedy;
    const auto alike = [&](const Finding& other) { return other.code == f.code && !other.step.empty(); };
    if (!f.step.empty() && std::count_if(audit.findings.begin(), audit.findings.end(), alike) > 1)
      remedy = f.remedy.substr(0, f.remedy.size() - f.step.size()) + "apply " + f.code;
    if (told.emplace(f.code, remedy).second)
      remedies.rows.push_back({{cell::text(f.code), cell::text(f.reason), cell::text(remedy)}});
  }
  std::stable_sort(remedies.rows.begin(), remedies.rows.end(),
                   [](const TableRow& x, const TableRow& y) { return x.cells[0].exact < y.cells[0].exact; });
  Report made;
  made.blocks.push_back(Heading{"Findings, those that save most first"});
  const std::string looked =
      fmt::format("{} looked at the model and its data",
                  audit.rules.size() == 1 ? "1 rule" : fmt::format("{} rules", audit.rules.size()));
  const auto tell_ignored = [&] {
    if (audit.ignored.empty()) return;
    Table ignored{"ignored",
                  InCsv::no,
                  {left("code", "code"), left("subject", "ignored"), left("place", "place"), left("reason", "why")},
                  {}};
    for (const IgnoredFinding& f : audit.ignored)
      ignored.rows.push_back({{cell::text(f.code), cell::text(f.subject), cell::place(f.place), cell::text(f.reason)}});
    made.blocks.push_back(std::move(ignored));
  };
  if (audit.findings.empty()) {
    made.blocks.push_back(Paragraph{looked + ", and found nothing."});
    for (TableColumn& column : findings.columns) column.audience = Audience::programs;
    made.blocks.push_back(std::move(findings));
    tell_ignored();
    return made;
  }
  const bool estimated =
      std::any_of(audit.findings.begin(), audit.findings.end(), [](const Finding& f) { return f.estimated; });
  made.blocks.push_back(std::move(findings));
  made.blocks.push_back(Paragraph{
      fmt::format("\n{}. What they found would save up to {} of {}: some findings concern the same column.{}", looked,
                  base::format_bytes(std::min(saved, audit.file_bytes)), base::format_bytes(audit.file_bytes),
                  estimated ? " Some savings are estimated from a sample of the rows." : "")});
  made.blocks.push_back(Heading{"What to do"});
  made.blocks.push_back(std::move(remedies));
  tell_ignored();
  return made;
}

// --- load -----------------------------------------------------------------------------------------------------------

Report report(const Scan& scan) {
  Table tables{"tables",
               InCsv::yes,
               {left("table", "table"), left("source", "source"), right("files", "files"), right("rows", "rows"),
                right("columns", "columns"), left("key", "key"), right("links", "links")},
               {}};
  for (const ScannedTable& t : scan.tables) {
    tables.rows.push_back({{cell::text(t.table), cell::text(t.source), cell::count(t.files), cell::count(t.rows),
                            cell::count(t.columns), cell::text(t.key), cell::count(t.links)}});
  }
  return {{std::move(tables)}};
}

Report report(const Verification& verification) {
  return {{Fact{"verified", "verified", cell::text(verification.store)},
           Fact{"columns", "columns", cell::count(verification.columns)},
           Fact{"links", "links", cell::count(verification.links)},
           Fact{"bytes", "bytes read, every checksum equal", cell::bytes(verification.bytes)}}};
}

namespace {

// "+1.2 MB", "−340 B"
Cell bytes_change(std::int64_t change) {
  const std::string size = base::format_bytes(static_cast<std::uint64_t>(std::abs(change)));
  return {Cell::Kind::number, change == 0 ? "0" : (change > 0 ? "+" : "−") + size, std::to_string(change)};
}

}  // namespace

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
               InCsv::no,
               {left("table", "table"), right("rows", "rows"), right("rejected", "rejected"),
                right("unreached", "left out"), right("source_bytes", "source"), right("files", "files"),
                right("files_read", "read now"), right("bytes", "in store"), right("read_nanoseconds", "reading"),
                right("total_nanoseconds", "with computing and encoding")},
               {}};
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
  if (rejected == 0) tables.columns[2].audience = Audience::programs;
  if (unreached == 0) tables.columns[3].audience = Audience::programs;
  made.blocks.push_back(std::move(tables));
  if (rejected != 0) {
    made.blocks.push_back(
        Paragraph{fmt::format("{} rows were rejected when their files were read: every number below is without them.",
                              base::grouped(rejected))});
  }

  Table orders{"orders",
               InCsv::no,
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

  Table columns{
      "columns",
      InCsv::yes,
      {left("table", "table"), left("column", "column"), left("calculated", "calculated"), right("rows", "rows"),
       right("bytes", "in store"), right("evaluate_nanoseconds", "computing"), right("encode_nanoseconds", "encoding")},
      {}};
  Table calculated{"calculated_columns", InCsv::no, columns.columns, {}};
  for (const ColumnLoad& c : load.columns) {
    const TableRow row{{cell::text(c.table), cell::text(c.column), cell::boolean(c.calculated), cell::count(c.rows),
                        cell::bytes(c.bytes), cell::nanoseconds(c.evaluate_nanoseconds),
                        cell::nanoseconds(c.encode_nanoseconds)}};
    columns.rows.push_back(row);
    if (c.calculated) calculated.rows.push_back(row);
  }
  // People see what each calculated column cost; programs get every column.
  calculated.columns[2].audience = Audience::programs;
  std::stable_sort(calculated.rows.begin(), calculated.rows.end(), [&](const TableRow& a, const TableRow& b) {
    return std::stoull(a.cells[5].exact) + std::stoull(a.cells[6].exact) >
           std::stoull(b.cells[5].exact) + std::stoull(b.cells[6].exact);
  });
  made.blocks.push_back(Heading{"Calculated columns"});
  made.blocks.push_back(std::move(calculated));
  for (TableColumn& column : columns.columns) column.audience = Audience::programs;
  made.blocks.push_back(std::move(columns));
  Table link_table{"links",
                   InCsv::no,
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

// --- weigh ----------------------------------------------------------------------------------------------------------

namespace {

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

Result<void> sort_parts(std::vector<Part>& parts, const std::string& figure) {
  const auto by = [&](const auto& key) {
    std::stable_sort(parts.begin(), parts.end(), [&](const Part& a, const Part& b) { return key(a) > key(b); });
  };
  const auto of_column = [](const Part& p, auto member) { return p.column == nullptr ? 0 : p.column->*member; };
  if (figure == "bytes") {
    by([](const Part& p) { return p.total(); });
  } else if (figure == "rows") {
    by([](const Part& p) { return p.rows; });
  } else if (figure == "bits") {
    by([](const Part& p) { return p.bits(); });
  } else if (figure == "distinct") {
    by([&](const Part& p) { return of_column(p, &ColumnWeight::distinct); });
  } else if (figure == "nulls") {
    by([&](const Part& p) { return of_column(p, &ColumnWeight::nulls); });
  } else if (figure == "uses") {
    // Heavy and seldom asked for first.
    by([](const Part& p) { return p.total(); });
    by([](const Part& p) {
      return p.column == nullptr ? -1.0
                                 : static_cast<double>(p.total()) / static_cast<double>(p.column->logged_queries + 1);
    });
  } else if (figure == "name") {
    std::stable_sort(parts.begin(), parts.end(), [](const Part& a, const Part& b) {
      return std::pair(a.table, a.name) < std::pair(b.table, b.name);
    });
  } else {
    return tl::unexpected(base::error("JR-003", fmt::format("there is no figure '{}' to sort by", figure),
                                      "sort by bytes, rows, distinct, nulls, bits, uses or name"));
  }
  return {};
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
std::string uses_in_short(const std::vector<ColumnUse>& uses) {
  if (uses.empty()) return "nothing";
  if (uses.size() == 1 && uses[0].kind != "link") return uses[0].name;
  std::string text;
  for (std::size_t begin = 0; begin < uses.size();) {
    std::size_t end = begin;
    while (end < uses.size() && uses[end].kind == uses[begin].kind) ++end;
    const std::string kind = uses[begin].kind == "calculated column" ? "column" : uses[begin].kind;
    text += (text.empty() ? "" : ", ") + plural(end - begin, kind);
    begin = end;
  }
  return text;
}

std::string uses_in_full(const std::vector<ColumnUse>& uses) {
  std::string text;
  for (const ColumnUse& use : uses) text += fmt::format("{}{} {}", text.empty() ? "" : "; ", use.kind, use.name);
  return text;
}

Table part_table(const Weighing& weighing, const std::vector<Part>& parts, std::size_t top) {
  Table table{"parts",
              InCsv::yes,
              {left("kind", "kind"),
               left("table", "table", Audience::programs),
               left("name", "name", Audience::programs),
               left("part", "part", Audience::people),
               right("rows", "rows", Audience::programs),
               right("distinct", "distinct"),
               right("nulls", "nulls", Audience::programs),
               right("dictionary_bytes", "dictionary"),
               right("code_bytes", "codes"),
               right("other_bytes", "other", Audience::programs),
               right("total_bytes", "total"),
               right("share_of_file", "share"),
               left("bar", "", Audience::people),
               right("bits_per_row", "bits/row"),
               left("encoding", "encoding"),
               left("type", "type", Audience::programs),
               left("min", "min", Audience::programs),
               left("max", "max", Audience::programs),
               left("used_by", "used by"),
               right("logged_queries", "queries of the log", weighing.has_log ? Audience::all : Audience::programs)},
              {}};
  const std::uint64_t most = std::accumulate(parts.begin(), parts.end(), std::uint64_t{1},
                                             [](std::uint64_t m, const Part& p) { return std::max(m, p.total()); });
  for (const Part& p : parts) {
    if (top != 0 && table.rows.size() == top) break;
    const ColumnWeight* c = p.column;
    Cell used;
    if (c != nullptr) {
      used = cell::text(uses_in_short(c->used_by));
      used.exact = uses_in_full(c->used_by);
    }
    table.rows.push_back(
        {{cell::text(p.kind),
          cell::text(p.table),
          cell::text(p.name),
          cell::text(shown_name(p)),
          p.kind == "file" ? Cell{} : cell::count(p.rows),
          c != nullptr ? cell::count(c->distinct) : Cell{},
          c != nullptr ? cell::count(c->nulls) : Cell{},
          p.dictionary_bytes == 0 ? Cell{Cell::Kind::number, "", "0"} : cell::bytes(p.dictionary_bytes),
          p.code_bytes == 0 ? Cell{Cell::Kind::number, "", "0"} : cell::bytes(p.code_bytes),
          cell::bytes(p.other_bytes),
          cell::bytes(p.total()),
          cell::share(p.total(), weighing.file_bytes),
          cell::bar(p.total(), most),
          p.kind == "file" ? Cell{} : cell::number(p.bits(), 1),
          cell::text(p.encoding),
          c != nullptr ? cell::text(to_string(c->type)) : Cell{},
          c != nullptr ? cell::value(c->min, base::ValueFormat(c->type)) : Cell{},
          c != nullptr ? cell::value(c->max, base::ValueFormat(c->type)) : Cell{},
          used,
          c != nullptr && weighing.has_log ? cell::count(c->logged_queries) : Cell{}}});
  }
  return table;
}

Table weight_tables(const Weighing& weighing) {
  Table table{"tables",
              InCsv::no,
              {left("table", "table"), right("rows", "rows"), right("source_bytes", "source"),
               right("dictionary_bytes", "dictionaries"), right("code_bytes", "codes"), right("link_bytes", "links"),
               right("total_bytes", "total"), right("share_of_file", "share"), left("bar", "", Audience::people)},
              {}};
  std::uint64_t most = 1;
  for (const TableWeight& t : weighing.tables) most = std::max(most, t.total_bytes());
  const auto add = [&](std::string name, const TableWeight& t, std::uint64_t total, bool strong) {
    table.rows.push_back(
        {{cell::text(std::move(name)), strong ? Cell{} : cell::count(t.rows), cell::bytes(t.source_bytes),
          cell::bytes(t.dictionary_bytes), cell::bytes(t.code_bytes), cell::bytes(t.link_bytes), cell::bytes(total),
          cell::share(total, weighing.file_bytes), strong ? Cell{} : cell::bar(total, most)},
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

}  // namespace

Result<Report> report(const Weighing& weighing, const WeighView& view) {
  std::vector<Part> parts = parts_of(weighing);
  if (auto sorted = sort_parts(parts, view.sort); !sorted) return tl::unexpected(sorted.error());
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
  made.blocks.push_back(Heading{"Tables"});
  made.blocks.push_back(weight_tables(weighing));
  const std::size_t shown = view.top == 0 ? parts.size() : std::min(view.top, parts.size());
  made.blocks.push_back(Heading{shown == parts.size()
                                    ? fmt::format("All {} parts of the file, by {}", parts.size(), view.sort)
                                    : fmt::format("The first {} of {} parts, by {}", shown, parts.size(), view.sort)});
  made.blocks.push_back(part_table(weighing, parts, view.top));
  std::uint64_t not_shown = 0;
  for (std::size_t i = shown; i < parts.size(); ++i) not_shown += parts[i].total();
  const std::string rest =
      shown == parts.size()
          ? ""
          : fmt::format("The other {}: {}. ", plural(parts.size() - shown, "part"), base::format_bytes(not_shown));
  made.blocks.push_back(Paragraph{fmt::format("\n{}All {} parts together: {} bytes, the size of the file.", rest,
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

namespace {}  // namespace

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
              InCsv::yes,
              {left("table", "table"), left("name", "part"), left("what", "what"), right("before_bytes", "before"),
               right("after_bytes", "now"), right("change_bytes", "change"), right("before_rows", "rows before"),
               right("after_rows", "rows now"), right("before_distinct", "distinct before"),
               right("after_distinct", "distinct now")},
              {}};
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
      "\n{} the same.", changes.same_parts == 1 ? "1 part is" : fmt::format("{} parts are", changes.same_parts))});
  return made;
}

// --- links ----------------------------------------------------------------------------------------------------------

Report report(const LinkReport& links) {
  const std::vector<LinkUse>& uses = links.links;
  Table table{"links",
              InCsv::yes,
              {left("link", "link"), right("many_rows", "many side"), right("many_keys", "keys"),
               right("null_rows", "null keys"), right("one_rows", "one side"),
               right("one_nulls", "null keys there", Audience::programs), right("used_rows", "used"),
               right("unused_rows", "unused"), right("used_share", "share used"), right("orphan_keys", "orphan keys"),
               right("orphan_rows", "in rows"), right("bytes", "bytes"), left("broken", "broken", Audience::programs)},
              {}};
  Table broken{"broken", InCsv::no, {left("link", "link"), left("reason", "why nothing can cross it")}, {}};
  Table orphans{"orphans", InCsv::no, {left("link", "link"), left("key", "orphan key"), right("rows", "rows")}, {}};
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
    for (const OrphanKey& orphan : use.samples)
      orphans.rows.push_back({{cell::text(use.link), cell::text(orphan.key), cell::count(orphan.rows)}});
  }
  Report made;
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
  Table measures{"orphan_measures", InCsv::no, {left("measure", "measure")}, {}};
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
              InCsv::no,
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
             InCsv::no,
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

// --- ask ------------------------------------------------------------------------------------------------------------

namespace {

std::string joined(const std::vector<std::string>& parts, std::string_view between) {
  std::string out;
  for (const std::string& part : parts) out += (out.empty() ? "" : std::string(between)) + part;
  return out;
}

// One thing in full: a line for each fact.
Report report_one(const Description& d) {
  Report made;
  const auto fact = [&](std::string name, std::string label, const std::string& value) {
    if (!value.empty()) made.blocks.push_back(Fact{std::move(name), std::move(label), cell::text(value)});
  };
  fact("kind", "kind", d.kind);
  fact("name", "name", d.name);
  fact("type", "type", d.type);
  fact("format", "format", d.format);
  fact("description", "description", d.description);
  fact("place", "declared at", fmt::format("{}:{}:{}", d.place.file, d.place.line, d.place.column));
  fact("rests_on", "rests on", joined(d.rests_on, ", "));
  fact("used_by", "used by", d.used_by.empty() ? "nothing in the model" : joined(d.used_by, ", "));
  if (!d.definition.empty()) made.blocks.push_back(Heading{"Definition"});
  if (!d.definition.empty()) made.blocks.push_back(Verbatim{"definition", d.definition + "\n"});
  return made;
}

}  // namespace

Report report(const std::vector<Description>& descriptions) {
  if (descriptions.size() == 1) return report_one(descriptions[0]);
  Table table{"descriptions",
              InCsv::yes,
              {left("kind", "kind"), left("name", "name"), left("type", "type"), left("format", "format"),
               left("rests_on", "rests on"), right("users", "users", Audience::people),
               left("used_by", "used by", Audience::programs), left("description", "description"),
               left("definition", "definition", Audience::programs), left("place", "place", Audience::programs)},
              {}};
  for (const Description& d : descriptions) {
    Cell rests = cell::text(joined(d.rests_on, ", "));
    constexpr std::size_t most = 4;
    if (d.rests_on.size() > most) {
      rests.shown = joined({d.rests_on.begin(), d.rests_on.begin() + most}, ", ") +
                    fmt::format(" and {} more", d.rests_on.size() - most);
    }
    const bool of_table = d.kind.ends_with("table");
    table.rows.push_back(
        {{cell::text(d.kind), cell::text(d.name), cell::text(d.type), cell::text(d.format), rests,
          cell::count(d.used_by.size()), cell::text(joined(d.used_by, ", ")), cell::text(d.description),
          cell::text(d.definition), cell::text(fmt::format("{}:{}:{}", d.place.file, d.place.line, d.place.column))},
         of_table});
  }
  Report made;
  made.blocks.push_back(std::move(table));
  return made;
}

Report report(const Explanation& explanation) {
  Table table{"steps",
              InCsv::yes,
              {left("way", "step"), left("what", "of"), left("place", "at"), right("slices", "slices"),
               right("rows_in", "rows in"), right("rows_out", "rows out"), right("bytes", "bytes"),
               right("nanoseconds", "time"), right("depth", "depth", Audience::programs)},
              {}};
  for (const ExplainStep& step : explanation.steps) {
    Cell way = cell::text(step.way);
    way.shown = std::string(2 * static_cast<std::size_t>(step.depth), ' ') + step.way;
    const Cell what = cell::code(step.what, 60);
    table.rows.push_back({{way, what, cell::place(step.place), cell::count(step.slices), cell::count(step.rows_in),
                           cell::count(step.rows_out), cell::bytes(step.bytes), cell::nanoseconds(step.nanoseconds),
                           cell::count(step.depth)},
                          step.way == "row by row"});
  }
  Report made;
  made.blocks.push_back(std::move(table));
  for (const std::string& text : explanation.row_by_row) {
    made.blocks.push_back(
        Paragraph{fmt::format("Row by row: {}\nIts time grows with rows times slices. A condition that "
                              "compares a column with something outside by = (and one by <, <=, > or >=) "
                              "is sorted or grouped instead.",
                              text)});
  }
  return made;
}

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
              InCsv::yes,
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

Report report(const QueryResult& result) {
  // The column that tells totals from rows is called `level`, unless the query has a column of that name.
  std::string level = "level";
  const auto taken = [&](const ResultColumn& column) { return column.name == level; };
  while (std::any_of(result.columns.begin(), result.columns.end(), taken)) level += "_";
  Table table{"rows", InCsv::yes, {left(level, level, Audience::programs)}, {}};
  for (const ResultColumn& column : result.columns)
    table.columns.push_back({column.name, column.name, column.type.is_number(), Audience::all});
  const auto formats = cell::formats_of(result.columns);
  table.rows.reserve(result.rows.size());
  for (const ResultRow& row : result.rows) {
    TableRow drawn{{}, row.level != 0};
    drawn.cells.reserve(table.columns.size());
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
    table.rows.push_back(std::move(drawn));
  }
  Report made;
  if (!result.title.empty()) made.blocks.push_back(Heading{result.title});
  made.blocks.push_back(std::move(table));
  made.blocks.push_back(
      Paragraph{fmt::format("\n{}, {} rows read, {}", plural(result.rows.size(), "row"),
                            base::grouped(result.rows_scanned), base::format_nanoseconds(result.nanoseconds))});
  if (!result.notes.empty()) made.blocks.push_back(Fact{"note", "note", cell::text(joined(result.notes, "; "))});
  return made;
}

}  // namespace juniper
