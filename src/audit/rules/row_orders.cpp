// Tables that take fewer bytes in another order of their rows; it is looked for and measured as a load does it.
#include <fmt/format.h>

#include "audit/rules.h"
#include "loading/row_order.h"

namespace juniper::auditing {

using namespace language;

void find_smaller_orders(const Subject& subject, Findings& findings) {
  // A sample of the rows does not tell how all of them would stand.
  if (subject.is_fast()) return;
  const CheckedModel& model = subject.model();
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const store::StoredTable& table = subject.table(t);
    if (table.order_asked || model.tables[t].rows || !table.broken.empty() ||
        !loading::may_sort(model.tables[t], table))
      continue;
    store::StoredTable sorted = table;
    std::vector<unsigned> weights;
    sorted.columns.clear();
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      if (table.columns[c].calculated) continue;
      sorted.columns.push_back(table.columns[c]);
      weights.push_back(1);
      for (const Link& link : model.links) {
        if (link.from.table == t && link.from.columns[0] == c) ++weights.back();
      }
    }
    loading::sort_rows(sorted, weights, subject.dataset().options().threads);
    if (sorted.order.empty()) continue;
    Finding finding =
        subject.about(table.name, model.tables[t].name_span, fmt::format("sorted by {} it is smaller", sorted.order),
                      fmt::format("juniper load {} --again --order auto", model.sources[0].name));
    finding.saved_bytes = sorted.order_saved_bytes;
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
