// Tables that links lead to, and half or more of whose rows nothing leads to.
#include <fmt/format.h>

#include "audit/rules.h"
#include "audit/trims.h"
#include "base/format.h"
#include "base/parallel.h"
#include "language/lexer.h"
#include "loading/resolve_link.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The rows that each link leads to, as ones.
std::vector<std::vector<std::uint8_t>> rows_of_links(const Subject& subject) {
  const auto& links = subject.dataset().store().links;
  std::vector<std::vector<std::uint8_t>> used(links.size());
  base::parallel_for(links.size(), subject.dataset().options().threads, [&](std::size_t i) {
    // Nobody knows which rows a broken link would lead to.
    used[i].assign(links[i].no_row, links[i].broken.empty() ? 0 : 1);
    if (!links[i].broken.empty()) return;
    loading::mark_rows(links[i], used[i]);
  });
  return used;
}

}  // namespace

void find_oversized_dimensions(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  const auto of_links = rows_of_links(subject);
  std::vector<Trim> trims;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    std::vector<std::uint8_t> used;
    for (LinkIndex i = 0; i < model.links.size(); ++i) {
      if (model.links[i].to.table != t) continue;
      used.resize(of_links[i].size());
      for (std::size_t row = 0; row < used.size(); ++row) used[row] |= of_links[i][row];
    }
    const auto rows = static_cast<std::uint64_t>(std::count(used.begin(), used.end(), 1));
    if (used.empty() || rows * 2 > used.size()) continue;
    const Trim trim = trim_of(subject.table(t), used, subject.is_fast() ? Saving::estimated : Saving::measured,
                              subject.dataset().options().threads);
    if (trim.saved_bytes == 0) continue;
    Finding finding = subject.with_step(
        subject.about(
            trim.table, model.tables[t].name_span,
            fmt::format("links lead to {} of {} rows", base::grouped(trim.used_rows), base::grouped(trim.rows)), ""),
        "trim " + written_name(trim.table));
    finding.saved_bytes = trim.saved_bytes;
    finding.estimated = subject.is_fast();
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
