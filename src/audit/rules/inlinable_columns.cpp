// Calculated columns that are only aggregated or grouped by: measures and queries can compute them.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"
#include "model/inlining.h"

namespace juniper::auditing {

using namespace language;

namespace {

// A value that is only looked up is a finding of its own.
bool is_looked_up(const Node& expression) {
  return expression.op == Op::column && !expression.column.path.empty();
}

}  // namespace

void find_inlinable_columns(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (!column.is_calculated() || is_looked_up(*column.expression) || subject.users(id).empty() ||
        !model::inlining_blockers(subject.model(), id).empty())
      return;
    std::string readers;
    for (const model::User& user : subject.users(id)) readers += (readers.empty() ? "" : ", ") + user.name;
    // What it alone is built on goes with it.
    std::uint64_t bytes = 0;
    std::map<std::string, std::uint64_t> by_column;
    for (const ColumnId gone : model::columns_to_inline(subject.model(), id)) {
      by_column[subject.model().column_name(gone)] = subject.data(gone).bytes();
      bytes += subject.data(gone).bytes();
    }
    findings.push_back(subject.with_step(
        subject.about(id, fmt::format("{} rows, read by {}", base::grouped(data.rows), readers), "", bytes),
        "inline " + step_name(subject.model(), id)));
    findings.back().saved_by_column = std::move(by_column);
  });
}

}  // namespace juniper::auditing
