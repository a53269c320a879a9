// Columns that hold one value in every row, or null in every row.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"

namespace juniper::auditing {

using namespace language;

namespace {

bool has_aggregate(const NodePtr& expression) {
  bool found = false;
  walk(expression, [&](const Node& node) { found = found || node.op == Op::aggregate; });
  return found;
}

}  // namespace

void find_constant_columns(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    const bool one = data.distinct + (data.nulls != 0 ? 1 : 0) == 1;
    // What an aggregate repeats is a finding of its own.
    if (data.rows < 2 || !one || has_aggregate(column.expression)) return;
    const std::string value = data.least.is_null() ? "null" : to_text(data.least, data.type);
    findings.push_back(subject.about(id, fmt::format("{} in all {} rows", value, base::grouped(data.rows)),
                                     "leave it out; where a measure needs the value, make it a parameter",
                                     data.bytes()));
  });
}

// The same number in each row because the expression reads nothing of the row.
void find_whole_table_aggregates(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (data.rows < 2 || data.distinct + (data.nulls != 0 ? 1 : 0) != 1 || !has_aggregate(column.expression)) return;
    const VariableId row = subject.model().tables[id.table].row;
    bool reads_row = false;
    walk(column.expression,
         [&](const Node& node) { reads_row = reads_row || (node.op == Op::column && node.variable == row); });
    if (reads_row) return;
    const std::string value = data.least.is_null() ? "null" : to_text(data.least, data.type);
    findings.push_back(subject.about(id, fmt::format("{} in all {} rows", value, base::grouped(data.rows)),
                                     "make it a measure", data.bytes()));
  });
}

}  // namespace juniper::auditing
