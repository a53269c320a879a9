// Calculated columns that are a column of another table, read over links, and nothing more.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"
#include "model/inlining.h"

namespace juniper::auditing {

using namespace language;

void find_looked_up_copies(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (!column.expression || column.expression->op != Op::column || column.expression->column.path.empty()) return;
    const ColumnRef& ref = column.expression->column;
    const store::Column& origin = subject.data(ref.column);
    const std::string name = subject.model().column_name(id);
    Finding finding = subject.about(id,
                                    fmt::format("{} rows repeat {}, which has {}", base::grouped(data.rows),
                                                subject.model().column_name(ref.column), base::grouped(origin.rows)),
                                    "", data.bytes());
    // What groups or filters by the copy reads the original first.
    if (model::inlining_blockers(subject.model(), id).empty()) {
      finding = subject.with_step(std::move(finding), "inline " + step_name(subject.model(), id));
    } else {
      finding.remedy =
          fmt::format("name {} wherever {} stands, and leave it out", subject.model().column_name(ref.column), name);
    }
    findings.push_back(std::move(finding));
  });
}

}  // namespace juniper::auditing
