// Calculated columns that are a column of another table, read over links, and nothing more.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"

namespace juniper::auditing {

using namespace language;

void find_looked_up_copies(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (!column.expression || column.expression->op != Op::column || column.expression->column.path.empty()) return;
    const ColumnRef& ref = column.expression->column;
    const store::Column& origin = subject.data(ref.column);
    findings.push_back(subject.about(
        id,
        fmt::format("{} rows repeat {}, which has {}", base::grouped(data.rows),
                    subject.model().column_name(ref.column), base::grouped(origin.rows)),
        fmt::format("juniper refactor {} inline {}", subject.dataset().model().path(), subject.model().column_name(id)),
        data.bytes()));
  });
}

}  // namespace juniper::auditing
