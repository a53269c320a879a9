// Findings, worst first.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/figures.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::plural;
using report_cells::right;
}  // namespace

Report report(const Audit& audit) {
  Table findings{
      "findings",
      InCsv::with_all,
      {right("saved_bytes", "saves"), right("saved_share", "of the file"), left("code", "code"), left("title", "what"),
       left("subject", "where"), left("place", "place", Audience::people), left("evidence", "evidence"),
       left("file", "file", Audience::programs), right("line", "line", Audience::programs),
       right("column", "column", Audience::programs), left("reason", "reason", Audience::programs),
       left("remedy", "remedy", Audience::programs), left("step", "step", Audience::programs),
       left("query", "query", Audience::programs), left("estimated", "estimated", Audience::programs)},
      {}};
  // What to do and why, once for all findings of which it is the same.
  Table remedies{"remedies",
                 InCsv::with_all,
                 {left("code", "code"), left("reason", "why it matters"), left("remedy", "what to do")},
                 {}};
  cell::give_way(findings, {"saved_share", "code", "place"});
  std::map<std::string, std::size_t> steps;  // of each kind
  for (const Finding& f : audit.findings) steps[f.code] += f.step.empty() ? 0 : 1;
  std::set<std::pair<std::string, std::string>> told;
  for (const Finding& f : audit.findings) {
    const bool measured = f.saved_bytes.has_value();
    findings.rows.push_back(
        {{measured ? cell::bytes(*f.saved_bytes) : Cell(),
          measured ? cell::share(*f.saved_bytes, audit.file_bytes) : Cell(), cell::text(f.code), cell::text(f.title),
          cell::text(f.subject), cell::place(f.place), cell::text(f.evidence), cell::text(f.place.file),
          cell::count(f.place.line), cell::count(f.place.column), cell::text(f.reason), cell::text(f.remedy),
          cell::text(f.step), cell::text(f.query), cell::boolean(f.estimated)}});
    // Steps of a kind are carried out together.
    std::string remedy = f.remedy;
    if (!f.step.empty() && steps[f.code] > 1)
      remedy = f.remedy.substr(0, f.remedy.size() - f.step.size()) + "apply " + f.code;
    Cell what_to_do = cell::text(remedy);
    if (!f.step.empty()) what_to_do.kind = Cell::Kind::code;
    if (told.emplace(f.code, remedy).second)
      remedies.rows.push_back({{cell::text(f.code), cell::text(f.reason), what_to_do}});
  }
  std::stable_sort(remedies.rows.begin(), remedies.rows.end(),
                   [](const TableRow& x, const TableRow& y) { return x.cells[0].exact < y.cells[0].exact; });
  Report made;
  made.blocks.push_back(Heading{"Findings, those that save most first"});
  const std::string looked =
      fmt::format("{} looked at the model and its data",
                  audit.rules.size() == 1 ? "1 rule" : fmt::format("{} rules", audit.rules.size()));
  const auto tell_captured = [&] {
    if (audit.captured != 0)
      made.blocks.push_back(Paragraph{
          fmt::format("Uses were counted in the model text and in {}.", plural(audit.captured, "captured query"))});
    if (const std::size_t count = audit.not_understood.size(); count != 0) {
      made.blocks.push_back(Paragraph{
          fmt::format("{} of the captured queries {} not understood; the first:", count, count == 1 ? "is" : "are")});
      made.blocks.push_back(Messages{{audit.not_understood[0]}});
    }
  };
  const auto tell_ignored = [&] {
    if (audit.ignored.empty()) return;
    Table ignored{"ignored",
                  InCsv::with_all,
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
    tell_captured();
    tell_ignored();
    return made;
  }
  const bool estimated =
      std::any_of(audit.findings.begin(), audit.findings.end(), [](const Finding& f) { return f.estimated; });
  made.blocks.push_back(report_figures::savings(audit));
  made.blocks.push_back(std::move(findings));
  made.blocks.push_back(Paragraph{fmt::format(
      "{}. Together the findings save up to {} of {}; a column that several are about counts once.{}", looked,
      base::format_bytes(std::min(audit.saved_bytes, audit.file_bytes)), base::format_bytes(audit.file_bytes),
      estimated ? " Some savings are estimated from a sample of the rows." : "")});
  tell_captured();
  made.blocks.push_back(Heading{"What to do"});
  made.blocks.push_back(std::move(remedies));
  tell_ignored();
  return made;
}

}  // namespace juniper
