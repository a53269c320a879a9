// Counts of different texts that are put together only to be counted.
#include <fmt/format.h>

#include <algorithm>

#include "audit/rules.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The columns that a concatenation joins, whole and beside nothing but texts of its own; empty for anything else.
bool add_parts(const NodePtr& node, std::vector<ColumnRef>& parts) {
  if (node->op == Op::concat) return add_parts(node->children[0], parts) && add_parts(node->children[1], parts);
  if (node->op == Op::literal) return true;
  if (node->op != Op::column) return false;
  if (std::find(parts.begin(), parts.end(), node->column) == parts.end()) parts.push_back(node->column);
  return true;
}

std::vector<ColumnRef> joined_columns(const CheckedModel& model, const NodePtr& counted) {
  NodePtr expression = counted;
  std::vector<LinkIndex> path;
  if (expression->op == Op::column && model.column(expression->column.column).is_calculated()) {
    path = expression->column.path;
    expression = model.column(expression->column.column).expression;
  }
  std::vector<ColumnRef> parts;
  if (expression->op != Op::concat || !add_parts(expression, parts)) return {};
  for (ColumnRef& part : parts) part.path.insert(part.path.begin(), path.begin(), path.end());
  return parts;
}

}  // namespace

void find_counted_texts(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Measure& measure : model.measures) {
    walk(measure.expression, [&](const Node& n) {
      if (n.op != Op::aggregate || n.aggregate != Aggregate::count_distinct || !n.rows ||
          (n.rows->kind != RowsKind::table && n.rows->kind != RowsKind::filtered))
        return;
      const std::vector<ColumnRef> parts = joined_columns(model, n.children[0]);
      if (parts.size() < 2) return;
      // A text with a null in it is null, and is not counted; a combination with a null is one.
      std::vector<std::string> names;
      std::string present;
      for (const ColumnRef& part : parts) {
        names.push_back(step_name(model, part.column));
        if (part.path.empty() && subject.data(part.column).nulls == 0) continue;
        present += fmt::format("{}{} is not null", present.empty() ? "" : " and ", names.back());
      }
      std::string rows(model.sources.text(n.rows->span));
      const bool has_condition = n.rows->kind == RowsKind::filtered;
      // Within distinct, rows have no name for conditions to go by.
      const bool is_named = !n.rows->row_name.empty() && n.rows->row_name != "row";
      if (is_named && has_condition) rows = rows.substr(0, rows.find(" where ")) + " where …";
      if (!present.empty()) rows += (has_condition ? " and " : " where ") + present;
      findings.push_back(subject.about(
          measure.name, measure.name_span,
          fmt::format("it makes a text of {} for each row, and counts the different ones", fmt::join(names, ", ")),
          fmt::format("count the combinations, where no two of them give one text: count(distinct({} for {}))",
                      fmt::join(names, ", "), rows)));
    });
  }
}

}  // namespace juniper::auditing
