// Tables that links lead to, and half or more of whose rows nothing leads to.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/failure.h"
#include "base/format.h"
#include "juniper/links.h"

namespace juniper::auditing {

using namespace language;

void find_oversized_dimensions(const Subject& subject, Findings& findings) {
  const auto found = links(subject.dataset(), 0);
  if (!found) throw base::Failure(found.error());
  for (const Trim& trim : found->trims) {
    if (trim.used_rows * 2 > trim.rows || trim.saved_bytes == 0) continue;
    const TableIndex t = *subject.model().find_table(trim.table);
    Finding finding = subject.about(
        trim.table, subject.model().tables[t].name_span,
        fmt::format("links lead to {} of {} rows", base::grouped(trim.used_rows), base::grouped(trim.rows)),
        "leave the other rows out where the file is made");
    finding.saved_bytes = trim.saved_bytes;
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
