// Tables that links lead to, and half or more of whose rows nothing leads to.
#include <fmt/format.h>

#include <deque>

#include "audit/rules.h"
#include "audit/trims.h"
#include "base/format.h"
#include "base/parallel.h"
#include "language/lexer.h"
#include "model/trimming.h"
#include "source/column_input.h"
#include "store/of_dataset.h"
#include "store/resolve_link.h"

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
    store::mark_rows(store::link_rows(store::store_of(subject.dataset()), links[i]), used[i]);
  });
  return used;
}

// The bytes that a link takes less once a table holds the rows alone that are marked: the link's one side, its many
// side, or both.
std::uint64_t saved_in_link(const Subject& subject, LinkIndex index, TableIndex trimmed,
                            const std::vector<std::uint64_t>& kept) {
  const Link& link = subject.model().links[index];
  const store::StoredLink& stored = store::store_of(subject.dataset()).links[index];
  if (!stored.broken.empty() || (link.to.table != trimmed && link.from.table != trimmed)) return 0;
  std::deque<store::Column> columns;
  const auto key = [&](const LinkEnd& end) {
    std::vector<const store::Column*> columns_of_key;
    for (const std::uint32_t c : end.columns) {
      const store::Column& column = subject.table(end.table).columns[c].data;
      columns_of_key.push_back(end.table != trimmed
                                   ? &column
                                   : &columns.emplace_back(store::encode_column(store::chosen_rows(column, kept))));
    }
    return columns_of_key;
  };
  const auto from = key(link.from);
  const auto to = key(link.to);
  const std::uint64_t before = stored.rows.bytes().size();
  return before - std::min<std::uint64_t>(before, store::resolve_link(from, to).rows.bytes().size());
}

}  // namespace

void find_oversized_dimensions(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  const auto of_links = rows_of_links(subject);
  std::vector<Trim> trims;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    // Periods are reckoned in all days of the calendar.
    if (model.calendar && model.calendar->day.table == t) continue;
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
    if (!subject.is_fast()) {
      std::vector<std::uint64_t> kept;
      for (std::uint64_t row = 0; row < used.size(); ++row) {
        if (used[row] != 0) kept.push_back(row);
      }
      for (LinkIndex i = 0; i < model.links.size(); ++i) saved += saved_in_link(subject, i, t, kept);
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
