// Tables that take fewer bytes in another order of their rows; it is looked for and measured as a load does it.
#include <fmt/format.h>

#include "audit/rules.h"
#include "language/lexer.h"
#include "loading/row_order.h"

namespace juniper::auditing {

using namespace language;

void find_smaller_orders(const Subject& subject, Findings& findings) {
  // A sample of the rows does not tell how all of them would stand.
  if (subject.is_fast()) return;
  const CheckedModel& model = subject.model();
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const store::StoredTable& table = subject.table(t);
    if (table.order_asked || !table.order.empty() || model.tables[t].rows || !table.broken.empty() ||
        !loading::may_sort(model.tables[t], table))
      continue;
    const unsigned threads = subject.dataset().options().threads;
    const std::vector<unsigned> weights = loading::code_weights(model, t, table);
    const std::vector<std::uint32_t> columns = loading::smaller_order(table, weights, threads);
    const std::int64_t saved =
        columns.empty() ? 0 : loading::saved_by_order(model, store::store_of(subject.dataset()), t, columns, threads);
    if (saved <= 0) continue;
    std::string names;
    std::string steps;
    for (const std::uint32_t c : columns) {
      const std::string& name = model.tables[t].columns[c].name;
      names += (names.empty() ? "" : ", ") + name;
      steps += (steps.empty() ? "" : ", ") + written_name(name);
    }
    Finding finding = subject.with_step(
        subject.about(table.name, model.tables[t].name_span, fmt::format("sorted by {} it is smaller", names), ""),
        fmt::format("reorder {} by ({})", written_name(table.name), steps));
    finding.saved_bytes = static_cast<std::uint64_t>(saved);
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
