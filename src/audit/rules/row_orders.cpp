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
    const std::vector<unsigned> weights = loading::code_weights(model, t);
    const std::vector<std::uint32_t> columns = loading::smaller_order(table, weights, threads);
    store::StoredTable sorted = table;
    loading::sort_rows(sorted, columns, weights, loading::SortIf::smaller, threads);
    if (sorted.order.empty()) continue;
    std::string names;
    for (const std::uint32_t c : columns)
      names += (names.empty() ? "" : ", ") + written_name(model.tables[t].columns[c].name);
    Finding finding = subject.with_step(subject.about(table.name, model.tables[t].name_span,
                                                      fmt::format("sorted by {} it is smaller", sorted.order), ""),
                                        fmt::format("reorder {} by ({})", written_name(table.name), names));
    finding.saved_bytes = static_cast<std::uint64_t>(sorted.order_saved_bytes);
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
