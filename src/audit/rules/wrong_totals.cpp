// Measures whose number is not the one that is meant: products of totals, ratios of rows added up, averages of
// averages. They are told from the tree, and the two numbers are asked for.
#include <fmt/format.h>

#include "audit/rules.h"
#include "juniper/ask.h"
#include "language/lexer.h"

namespace juniper::auditing {

using namespace language;

namespace {

bool is_total(const Node& node) {
  return node.op == Op::aggregate && (node.aggregate == Aggregate::sum || node.aggregate == Aggregate::avg);
}

// True if the aggregate's expression reads its rows.
bool reads_rows(const Node& aggregate) {
  bool reads = false;
  walk(aggregate.children[0], [&](const Node& n) { reads = reads || n.op == Op::column; });
  return reads;
}

// The answer to a query of one row as "3.5 and 4.1"; "" if there is none.
std::string numbers_of(const Subject& subject, const std::string& query, const std::string& between) {
  const auto answer = ask(subject.dataset(), {query});
  if (!answer || answer->rows.size() != 1) return "";
  std::string text;
  for (std::size_t c = 0; c < answer->columns.size(); ++c) {
    const Value& value = answer->rows[0].cells[c];
    const Type type = answer->columns[c].type;
    std::string shown = value.is_null() ? "null" : to_text(value, type);
    if (!value.is_null() && type.kind == TypeKind::real) shown = fmt::format("{:.6g}", value.real());
    text += (text.empty() ? "" : between) + shown;
  }
  return text;
}

// What an expression is without the conversions around it.
const NodePtr& inner(const NodePtr& node) {
  return node->op == Op::to_real || node->op == Op::rescale ? inner(node->children[0]) : node;
}

// The ratio that an expression over rows is, through calculated columns; null for anything else, and where what it is
// divided by is the same for all rows.
NodePtr ratio_of(const CheckedModel& model, const NodePtr& node) {
  const NodePtr& at = inner(node);
  if (at->op == Op::column && model.column(at->column.column).is_calculated())
    return ratio_of(model, model.column(at->column.column).expression);
  if (at->op != Op::divide) return nullptr;
  const auto reads = [&](const NodePtr& part) {
    bool found = false;
    walk(part, [&](const Node& n) { found = found || n.op == Op::column; });
    return found;
  };
  return reads(at->children[0]) && reads(at->children[1]) ? at : nullptr;
}

// Whose average is not that of its parts: an average or a ratio of totals.
bool is_average(const Subject& subject, const NodePtr& node) {
  const NodePtr& at = inner(subject.defined(inner(node)));
  if (at->op == Op::modified) return is_average(subject, at->children[0]);
  if (at->op == Op::aggregate) return at->aggregate == Aggregate::avg;
  if (at->op != Op::divide) return false;
  const auto is_total_of_rows = [&](const NodePtr& part) {
    const NodePtr& total = inner(subject.defined(inner(part)));
    return total->op == Op::aggregate;
  };
  return is_total_of_rows(at->children[0]) && is_total_of_rows(at->children[1]);
}

}  // namespace

void find_products_of_totals(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Measure& measure : model.measures) {
    walk(measure.expression, [&](const Node& n) {
      if (n.op != Op::multiply) return;
      const NodePtr& left = inner(subject.defined(inner(n.children[0])));
      const NodePtr& right = inner(subject.defined(inner(n.children[1])));
      if (!is_total(*left) || !is_total(*right) || !reads_rows(*left) || !reads_rows(*right) ||
          base_table(left->rows) != base_table(right->rows))
        return;
      const std::string table = written_name(model.tables[base_table(left->rows)].name);
      std::string evidence = fmt::format("it multiplies {} and {}", subject.text(left), subject.text(right));
      std::string query;
      if (left->rows->kind == RowsKind::table && right->rows->kind == RowsKind::table) {
        query = fmt::format("show product_of_totals = {}, total_of_products = sum(({}) * ({}) for {})",
                            model.sources.text(n.span), subject.text(left->children[0]),
                            subject.text(right->children[0]), table);
        const std::string numbers = numbers_of(subject, query, ", and the total of the products is ");
        if (!numbers.empty()) evidence += fmt::format(": {}", numbers);
      }
      findings.push_back(
          subject.about(measure.name, measure.name_span, std::move(evidence),
                        fmt::format("if the total of the products is meant: sum(({}) * ({}) for {})",
                                    subject.text(left->children[0]), subject.text(right->children[0]), table)));
      findings.back().query = query;
    });
  }
}

void find_aggregated_ratios(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Measure& measure : model.measures) {
    walk(measure.expression, [&](const Node& n) {
      // Over groups of rows it is the average of averages that is meant.
      if (!is_total(n) || n.rows->kind == RowsKind::grouped || n.rows->kind == RowsKind::distinct) return;
      const NodePtr ratio = ratio_of(model, n.children[0]);
      if (!ratio) return;
      const NodePtr& above = ratio->children[0];
      const NodePtr& below = ratio->children[1];
      const std::string rows(model.sources.text(n.rows->span));
      // The parts of a calculated column's ratio are named as its table names them.
      const std::string better = fmt::format("sum({} for {}) / sum({} for {})", subject.text(inner(above)), rows,
                                             subject.text(inner(below)), rows);
      const std::string query = fmt::format("show of_rows = {}, of_sums = {}", model.sources.text(n.span), better);
      const std::string numbers = numbers_of(subject, query, ", where the ratio of the sums is ");
      const std::string what = n.aggregate == Aggregate::sum ? "adds up" : "averages";
      findings.push_back(subject.about(measure.name, measure.name_span,
                                       fmt::format("it {} {}{}", what, model.sources.text(n.children[0]->span),
                                                   numbers.empty() ? "" : fmt::format(", to {}", numbers)),
                                       fmt::format("if the ratio of the sums is meant: {}", better)));
      if (!numbers.empty()) findings.back().query = query;
    });
  }
}

void find_averages_of_averages(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Measure& measure : model.measures) {
    walk(measure.expression, [&](const Node& n) {
      if (n.op != Op::aggregate || n.aggregate != Aggregate::avg) return;
      NodePtr value = inner(n.children[0]);
      // A value of a group: what the group computed.
      if (value->op == Op::field) {
        for (RowSetPtr rows = n.rows; rows; rows = rows->input) {
          if (rows->kind != RowsKind::grouped || rows->variable != value->variable) continue;
          const std::size_t keys = rows->values.size();
          if (value->field >= keys && value->field - keys < rows->results.size()) {
            value = rows->results[value->field - keys];
            break;
          }
        }
      }
      const NodePtr& narrowed = value->op == Op::modified ? value->children[0] : value;
      if ((value->op != Op::modified && value->op != Op::aggregate && value->op != Op::divide) ||
          !is_average(subject, narrowed))
        return;
      std::string evidence = fmt::format("it averages {}", model.sources.text(n.children[0]->span));
      Finding finding = subject.about(measure.name, measure.name_span, "",
                                      "average over the rows themselves, or divide the total by the total");
      if (narrowed->op == Op::measure) {
        const std::string name = written_name(model.measures[narrowed->measure].name);
        const std::string query = fmt::format("show of_averages = {}, of_all = {}", model.sources.text(n.span), name);
        const std::string numbers = numbers_of(subject, query, ", where that of all rows is ");
        if (!numbers.empty()) {
          evidence += fmt::format(", to {}", numbers);
          finding.query = query;
        }
        finding.remedy = fmt::format("if the average of all rows is meant: {}", name);
      }
      finding.evidence = std::move(evidence);
      findings.push_back(std::move(finding));
    });
  }
}

}  // namespace juniper::auditing
