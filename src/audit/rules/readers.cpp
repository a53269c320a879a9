// Readers that see all rows, or none.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"
#include "engine/query/ask.h"
#include "loading/seen_rows.h"

namespace juniper::auditing {

using namespace language;

void find_idle_readers(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Reader& reader : model.readers) {
    for (const ReaderRows& rows : reader.rows) {
      Reader alone = reader;
      alone.rows = {rows};
      const auto seen =
          loading::seen_rows(engine::source_of(subject.dataset()), alone, subject.dataset().options().threads);
      if (!seen) continue;  // what is broken is told by the links
      const std::uint64_t all = subject.table(rows.table).rows;
      const std::uint64_t count = (*seen)[rows.table]->size();
      if (all == 0 || (count != 0 && count != all)) continue;
      findings.push_back(
          subject.about(reader.name, rows.span,
                        fmt::format("`{}` shows {} of {} rows", model.sources.text(rows.span),
                                    count == 0 ? "none" : "all", base::grouped(all)),
                        count == 0 ? "compare with a value that is there" : "leave it out, or choose fewer rows"));
    }
  }
}

}  // namespace juniper::auditing
