// Tables that links lead to, and half or more of whose rows nothing leads to.
#include <fmt/format.h>

#include "audit/rules.h"
#include "audit/trims.h"
#include "base/format.h"
#include "base/parallel.h"
#include "language/lexer.h"
#include "loading/resolve_link.h"
#include "model/trimming.h"
#include "store/of_dataset.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The rows that each link leads to, as ones.
std::vector<std::vector<std::uint8_t>> rows_of_links(const Subject& subject) {
  const auto& links = store::store_of(subject.dataset()).links;
  std::vector<std::vector<std::uint8_t>> used(links.size());
  base::parallel_for(links.size(), subject.dataset().options().threads, [&](std::size_t i) {
    // Nobody knows which rows a broken link would lead to.
    used[i].assign(links[i].no_row, links[i].broken.empty() ? 0 : 1);
    if (!links[i].broken.empty()) return;
    loading::mark_rows(links[i], used[i]);
  });
  return used;
}

// The bytes that a link takes less once a table holds the rows alone that are marked: the link's one side, its many
// side, or both.
std::uint64_t saved_in_link(const store::StoredLink& link, const std::vector<std::uint8_t>& used, bool leads_there,
                            bool leads_from_there) {
  if (!link.broken.empty() || (!leads_there && !leads_from_there)) return 0;
  std::vector<std::uint64_t> rows = link.rows.decoded();
  if (leads_there) {
    std::vector<std::uint64_t> place(used.size() + 1);
    std::uint64_t kept = 0;
    for (std::size_t row = 0; row < used.size(); ++row) place[row] = used[row] != 0 ? kept++ : 0;
    place[used.size()] = kept;  // no match
    for (std::uint64_t& row : rows) row = place[row];
  }
  if (leads_from_there) {
    std::size_t kept = 0;
    for (std::size_t row = 0; row < rows.size(); ++row) {
      if (used[row] != 0) rows[kept++] = rows[row];
    }
    rows.resize(kept);
  }
  const std::uint64_t before = link.rows.bytes().size();
  return before - std::min<std::uint64_t>(before, store::Codes::encode(rows).bytes().size());
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
    std::uint64_t saved = trim.saved_bytes;
    for (LinkIndex i = 0; i < model.links.size() && !subject.is_fast(); ++i) {
      saved += saved_in_link(store::store_of(subject.dataset()).links[i], used, model.links[i].to.table == t,
                             model.links[i].from.table == t);
    }
    Finding finding = subject.about(
        trim.table, model.tables[t].name_span,
        fmt::format("links lead to {} of {} rows", base::grouped(trim.used_rows), base::grouped(trim.rows)), "");
    const Diagnostics blockers = model::trimming_blockers(model, t);
    if (blockers.empty()) {
      finding = subject.with_step(std::move(finding), "trim " + written_name(trim.table));
    } else {
      finding.remedy = fmt::format("leave them out of the file, if nobody needs them; {}", blockers[0].message);
    }
    finding.saved_bytes = saved;
    finding.estimated = subject.is_fast();
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
