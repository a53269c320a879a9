// The page about a model: what is drawn stands in it as data for its scripts, and beside that as tables of the same
// numbers, for whoever can't see a drawing, prints it, or sorts.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/failure.h"
#include "base/format.h"
#include "base/output_file.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/figures.h"
#include "report/render/html.h"

namespace juniper {

namespace {

namespace cell = report_cells;
using render_formats::escaped_html;
using render_formats::FigureData;
using render_formats::Out;
using report_cells::left;
using report_cells::plural;
using report_cells::right;

void section(const char* id, const std::string& heading, Out& out) {
  out += fmt::format("<section id=\"{0}\" aria-labelledby=\"{0}-h\">\n<h2 id=\"{0}-h\">{1}</h2>\n", id,
                     escaped_html(heading));
}

// Puts a figure in the place of the one of its name, which knows less.
void draw_instead(Report& document, Figure figure) {
  for (auto& block : document.blocks) {
    if (Figure* const drawn = std::get_if<Figure>(&block); drawn != nullptr && drawn->name == figure.name)
      *drawn = std::move(figure);
  }
}

void glance(const Overview& overview, FigureData& data, Out& out) {
  const Weighing& weighing = overview.weighing;
  std::uint64_t rows = 0;
  for (const TableWeight& t : weighing.tables) rows += t.rows;
  section("glance", "At a glance", out);
  out += "<ul class=\"glance\">\n";
  const auto tile = [&](const std::string& figure, const std::string& what, const char* mood = "") {
    out +=
        fmt::format("<li{}><b>{}</b> <span>{}</span></li>\n", *mood == '\0' ? "" : fmt::format(" class=\"{}\"", mood),
                    escaped_html(figure), escaped_html(what));
  };
  tile(base::format_bytes(weighing.file_bytes), "in the store");
  tile(base::format_bytes(weighing.source_bytes), "of sources");
  tile(base::grouped(rows), fmt::format("rows in {}", plural(weighing.tables.size(), "table")));
  tile(base::grouped(weighing.columns.size()), "columns");
  tile(base::format_nanoseconds(overview.load_nanoseconds), "of work in a load");
  const Audit& audit = overview.audit;
  if (overview.reader.empty()) {
    tile(base::grouped(audit.findings.size()),
         fmt::format("{}, worth up to {}", audit.findings.size() == 1 ? "finding" : "findings",
                     base::format_bytes(std::min(audit.saved_bytes, audit.file_bytes))),
         audit.findings.empty() ? "good" : "");
  }
  if (overview.baseline) {
    const CheckReport& check = *overview.baseline;
    const auto failed = static_cast<std::size_t>(
        std::count_if(check.queries.begin(), check.queries.end(), [](const auto& query) { return !query.passed(); }));
    tile(check.passed() ? "passed" : base::grouped(failed) + " failed",
         fmt::format("the baseline of {}", plural(check.queries.size(), "query")), check.passed() ? "good" : "bad");
  } else {
    tile("none", "no baseline is recorded");
  }
  out += "</ul>\n";
  if (!overview.problems.empty()) html_blocks({{Messages{overview.problems}}}, 3, data, out);
  out += "</section>\n";
}

void bytes(const Overview& overview, FigureData& data, Out& out) {
  section("bytes", "Where the bytes are", out);
  Report document = report(overview.weighing, {WeighOrder::bytes, 0});
  // The facts stand at a glance.
  std::erase_if(document.blocks, [](const auto& block) { return std::holds_alternative<Fact>(block); });
  draw_instead(document, report_figures::treemap(overview.weighing, overview.distributions));
  html_blocks(document, 3, data, out);
  out += "</section>\n";
}

void links_and_tables(const Overview& overview, FigureData& data, Out& out) {
  section("links", "How the tables hang together", out);
  Report document = report(overview.links);
  draw_instead(document, report_figures::diagram(overview.links, overview.weighing.tables));
  html_blocks(document, 3, data, out);
  out += "</section>\n";
}

// As the audit's own document, with what to do beside each finding.
Report findings(const Audit& audit) {
  Table table{"findings",
              InCsv::with_all,
              {right("saved_bytes", "saves"), right("saved_share", "of the file"), left("subject", "where"),
               left("title", "what"), left("evidence", "evidence"), left("remedy", "what to do"), left("code", "code"),
               left("place", "place")},
              {}};
  Table rules{
      "rules", InCsv::with_all, {left("code", "code"), left("title", "what"), left("reason", "why it matters")}, {}};
  cell::compare_by(table, "saved_bytes");
  std::set<std::string> codes;
  for (const Finding& f : audit.findings) {
    Cell remedy = cell::text(f.remedy);
    if (!f.step.empty()) remedy.kind = Cell::Kind::code;
    table.rows.push_back(
        {{f.saved_bytes ? cell::bytes(*f.saved_bytes) : Cell(),
          f.saved_bytes ? cell::share(*f.saved_bytes, audit.file_bytes) : Cell(), cell::text(f.subject),
          cell::text(f.title), cell::text(f.evidence), remedy, cell::text(f.code), cell::place(f.place)}});
    if (codes.insert(f.code).second)
      rules.rows.push_back({{cell::text(f.code), cell::text(f.title), cell::text(f.reason)}});
  }
  return {{Heading{"Findings, those that save most first"}, std::move(table), Heading{"Why they matter"},
           std::move(rules)}};
}

void audit(const Overview& overview, FigureData& data, Out& out) {
  const Audit& audit = overview.audit;
  section("findings", "What was found", out);
  if (audit.findings.empty()) {
    html_blocks(report(audit), 3, data, out);
  } else {
    html_blocks({{report_figures::savings(audit)}}, 3, data, out);
    html_blocks(findings(audit), 3, data, out);
    html_blocks(
        {{Paragraph{fmt::format(
            "Together the findings save up to {} of {}; a column that several are about counts once. It is no "
            "promise: one remedy may make another smaller.",
            base::format_bytes(std::min(audit.saved_bytes, audit.file_bytes)), base::format_bytes(audit.file_bytes))}}},
        3, data, out);
  }
  out += "</section>\n";
}

// Names in short: the first few, and how many more there are.
Cell names(const std::vector<std::string>& all) {
  constexpr std::size_t most = 6;
  Cell names = cell::text(cell::joined(all, ", "));
  if (all.size() > most) {
    names.shown =
        cell::joined({all.begin(), all.begin() + most}, ", ") + fmt::format(" and {} more", all.size() - most);
  }
  return names;
}

// Whether a definition is something computed.
bool is_computed(DescribedKind kind) {
  switch (kind) {
    case DescribedKind::parameter:
    case DescribedKind::function:
    case DescribedKind::calculated_table:
    case DescribedKind::calculated_column:
    case DescribedKind::measure:
      return true;
    case DescribedKind::table:
    case DescribedKind::column:
    case DescribedKind::link:
    case DescribedKind::query:
    case DescribedKind::reader:
      break;
  }
  return false;
}

Report definitions(const std::vector<Description>& descriptions) {
  Table table{"definitions",
              InCsv::with_all,
              {left("name", "name"), left("kind", "kind"), left("definition", "definition"), left("type", "type"),
               left("rests_on", "rests on"), left("used_by", "used by"), left("description", "description")},
              {}};
  for (const Description& d : descriptions) {
    if (!is_computed(d.kind)) continue;
    table.rows.push_back(
        {{cell::text(d.name), cell::text(std::string(to_string(d.kind))), cell::code(d.definition, 400),
          cell::text(d.type), names(d.rests_on), names(d.used_by), cell::text(d.description)}});
  }
  return {{std::move(table)}};
}

void queries(const Overview& overview, FigureData& data, Out& out) {
  base::Json::Items charts;
  section("measures", "What is computed", out);
  html_blocks(definitions(overview.descriptions), 3, data, out);
  out += "</section>\n";
  if (overview.queries.empty()) return;
  section("queries", "What reports ask", out);
  constexpr std::size_t most_rows = 200;
  for (std::size_t q = 0; q < overview.queries.size(); ++q) {
    const ShownQuery& shown = overview.queries[q];
    out += fmt::format("<article><h3>{}</h3>\n", escaped_html(shown.query.name));
    out += fmt::format("<p><code>{}</code></p>\n", escaped_html(cell::code(shown.query.definition, 1000).shown));
    charts.emplace_back();
    if (shown.result) charts.back() = report_figures::chart(overview.calendar, *shown.result);
    if (!shown.result) {
      html_blocks({{Messages{shown.result.error()}}}, 4, data, out);
      out += "</article>\n";
      continue;
    }
    out += fmt::format("<figure class=\"drawing answer\" data-answer=\"{}\"></figure>\n", q);
    if (shown.result->rows.size() > most_rows) {
      QueryResult first = *shown.result;
      first.rows.resize(most_rows);
      html_blocks(report(first), 4, data, out);
      html_blocks({{Paragraph{fmt::format("These are the first {} of {} rows.", most_rows,
                                          base::grouped(shown.result->rows.size()))}}},
                  4, data, out);
    } else {
      html_blocks(report(*shown.result), 4, data, out);
    }
    out += "</article>\n";
  }
  out += "</section>\n";
  data["charts"] = base::Json(std::move(charts)).to_line();
}

// A row for each revision and query, and one for its bytes.
Report revisions(const std::vector<HistoryPoint>& history) {
  Table table{"revisions",
              InCsv::with_all,
              {left("day", "day"), left("revision", "revision"), left("what", "what"), right("figure", "recorded")},
              {}};
  for (const HistoryPoint& point : history) {
    const auto add = [&](const std::string& what, Cell figure) {
      table.rows.push_back({{cell::text(point.day), cell::text(point.revision), cell::text(what), std::move(figure)}});
    };
    if (point.bytes) add("bytes of the store", cell::bytes(*point.bytes));
    for (const auto& [query, nanoseconds] : point.times) add("query " + query, cell::nanoseconds(nanoseconds));
  }
  return {{Heading{"Revision by revision"}, std::move(table)}};
}

void baseline(const Overview& overview, FigureData& data, Out& out) {
  if (overview.baseline) {
    section("baseline", "What the baseline says", out);
    html_blocks(report(*overview.baseline), 3, data, out);
    out += "</section>\n";
  }
  if (overview.earlier.empty() && overview.history.empty()) return;
  section("history", "What has changed", out);
  if (!overview.earlier.empty()) html_blocks({{report_figures::weighings(overview)}}, 3, data, out);
  if (!overview.history.empty()) {
    html_blocks({{report_figures::revisions(overview)}}, 3, data, out);
    html_blocks(revisions(overview.history), 3, data, out);
  }
  for (const EarlierWeighing& earlier : overview.earlier) {
    out += fmt::format("<h3>Since {}</h3>\n", escaped_html(earlier.name));
    html_blocks(report(earlier.changes), 4, data, out);
  }
  out += "</section>\n";
}

}  // namespace

void render_page(const Overview& overview, const Sink& sink) {
  using render_formats::Drawing;
  Out out(sink);
  FigureData data;
  const std::string title =
      overview.weighing.model + (overview.reader.empty() ? "" : ", as the reader " + overview.reader + " sees it");
  begin_page(title, Drawing::figures, out);
  out += fmt::format(
      "<a class=\"skip\" href=\"#glance\">To the content</a>\n<header><h1>{}</h1>\n<nav aria-label=\"Parts\"><ul>",
      escaped_html(title));
  std::vector<std::pair<const char*, const char*>> parts{{"glance", "At a glance"}, {"bytes", "Bytes"}};
  if (overview.reader.empty()) {
    parts.emplace_back("links", "Tables");
    parts.emplace_back("findings", "Findings");
  }
  parts.emplace_back("measures", "Computed");
  if (!overview.queries.empty()) parts.emplace_back("queries", "Queries");
  if (overview.baseline) parts.emplace_back("baseline", "Baseline");
  if (!overview.earlier.empty() || !overview.history.empty()) parts.emplace_back("history", "History");
  for (const auto& [id, name] : parts) out += fmt::format("<li><a href=\"#{}\">{}</a></li>", id, name);
  out += "</ul></nav></header>\n<main>\n";
  glance(overview, data, out);
  bytes(overview, data, out);
  if (overview.reader.empty()) {
    links_and_tables(overview, data, out);
    audit(overview, data, out);
  }
  queries(overview, data, out);
  baseline(overview, data, out);
  out += "</main>\n";
  end_page(data, Drawing::figures, out);
  out.flush();
}

Result<std::uint64_t> write_page(const Overview& overview, const std::string& path, Overwrite overwrite) {
  std::string page;
  render_page(overview, [&](std::string_view part) { page += part; });
  const auto is_ours = [](std::string_view begin) {
    return begin.starts_with("<!doctype html>") && begin.find(render_formats::page_mark) != std::string_view::npos;
  };
  const auto written = base::guarded([&] { return base::write_output(path, page, is_ours, overwrite); });
  if (!written) return tl::unexpected(written.error());
  return page.size();
}

}  // namespace juniper
