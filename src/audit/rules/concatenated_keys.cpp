// Calculated columns that put several columns together so that a link has one to go by.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"
#include "language/traverse.h"
#include "model/uses.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The names of the columns that are put together; fewer than two for anything else.
std::vector<std::string> parts_of(const CheckedModel& model, const NodePtr& expression) {
  std::vector<std::string> parts;
  if (!expression || expression->op != Op::concat) return parts;
  for (const ColumnRef& ref : column_refs(expression)) parts.push_back(model.column(ref.column).name);
  return parts;
}

}  // namespace

void find_concatenated_keys(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Link& link : model.links) {
    if (link.from.columns.size() != 1) continue;
    const ColumnId from{link.from.table, link.from.columns[0]};
    const ColumnId to{link.to.table, link.to.columns[0]};
    const std::vector<std::string> parts = parts_of(model, model.column(from).expression);
    if (parts.size() < 2) continue;
    const bool both = model.column(to).is_calculated();
    Finding finding =
        subject.about(from,
                      fmt::format("the link {} goes by {} values put together from {}", model.link_name(link),
                                  base::grouped(subject.data(from).distinct), fmt::join(parts, ", ")),
                      fmt::format("link {}.({}) to the columns of {} that they equal", model.tables[from.table].name,
                                  fmt::join(parts, ", "), model.tables[to.table].name),
                      subject.data(from).bytes() + (both ? subject.data(to).bytes() : 0));
    if (both) finding = subject.with_step(std::move(finding), "relink " + step_name(model, from));
    findings.push_back(std::move(finding));
  }
}

}  // namespace juniper::auditing
