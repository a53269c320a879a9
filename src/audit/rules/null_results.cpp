// What comes to nothing in silence: divisions by zero, and filters on values that no row has.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/diagnostics.h"
#include "base/format.h"
#include "juniper/ask.h"
#include "language/lexer.h"

namespace juniper::auditing {

using namespace language;

namespace {

std::uint64_t count_of(const Subject& subject, const std::string& query) {
  const auto answer = ask(subject.dataset(), {query});
  if (!answer || answer->rows.size() != 1 || answer->rows[0].cells[0].is_null()) return 0;
  return static_cast<std::uint64_t>(answer->rows[0].cells[0].exact());
}

}  // namespace

void find_divisions_by_zero(const Subject& subject, Findings& findings) {
  // The rows have to be looked at.
  if (subject.is_fast()) return;
  const CheckedModel& model = subject.model();
  const auto look = [&](const std::string& name, Span place, const Node& division, const std::string& rows) {
    const std::string below(model.sources.text(division.children[1]->span));
    const std::string query = fmt::format("show divided_by_zero = count({} where ({}) = 0)", rows, below);
    const std::uint64_t zeros = count_of(subject, query);
    if (zeros == 0) return;
    findings.push_back(subject.about(
        name, place,
        fmt::format("{} is 0 in {} {}, and the ratio null", below, base::grouped(zeros), zeros == 1 ? "row" : "rows"),
        fmt::format("if that is meant, say so: case when {0} <> 0 then … / {0} end", below)));
    findings.back().query = query;
  };
  // Says so already: the division stands in a branch.
  const auto is_guarded = [](const NodePtr& expression, const Node& division) {
    bool guarded = false;
    walk(expression, [&](const Node& n) {
      if (n.op != Op::cases) return;
      for (const NodePtr& branch : n.children)
        walk(branch, [&](const Node& inside) { guarded = guarded || &inside == &division; });
    });
    return guarded;
  };
  const auto is_division = [](const Node& n) {
    const bool divides = n.op == Op::divide || n.op == Op::int_divide || n.op == Op::modulo;
    if (!divides || n.children[1]->op == Op::literal) return false;
    bool scalar = true;
    walk(n.children[1], [&](const Node& part) {
      scalar = scalar && part.op != Op::aggregate && part.op != Op::measure && part.op != Op::modified &&
               part.op != Op::field && part.op != Op::name && part.op != Op::let;
    });
    return scalar;
  };
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (const Column& column : model.tables[t].columns) {
      if (!column.expression) continue;
      walk(column.expression, [&](const Node& n) {
        const bool own = is_division(n) && outer_variables(n.children[1]) == std::set{model.tables[t].row};
        if (own && !is_guarded(column.expression, n))
          look(model.tables[t].name + "." + column.name, column.name_span, n, written_name(model.tables[t].name));
      });
    }
  }
  for (const Measure& measure : model.measures) {
    walk(measure.expression, [&](const Node& aggregate) {
      if (aggregate.op != Op::aggregate || aggregate.children.empty() || !aggregate.rows ||
          (aggregate.rows->kind != RowsKind::table && aggregate.rows->kind != RowsKind::filtered))
        return;
      walk_scalars(aggregate.children[0], [&](const Node& n) {
        if (!is_division(n) || is_guarded(aggregate.children[0], n)) return;
        std::string rows(model.sources.text(aggregate.rows->span));
        if (!aggregate.rows->row_name.empty() && aggregate.rows->row_name != "row")
          rows = aggregate.rows->row_name + " in " + rows;
        look(measure.name, measure.name_span, n, rows);
      });
    });
  }
}

void find_filters_of_nothing(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  each_definition(model, [&](const Definition& definition) {
    walk(definition, [&](const Node& n) {
      if ((n.op != Op::equal && n.op != Op::in) || n.children.size() < 2) return;
      const bool first = n.children[0]->op == Op::column;
      const NodePtr& column = n.children[first ? 0 : 1];
      if (column->op != Op::column || (n.op == Op::in && !first)) return;
      const store::StoredColumn& stored =
          subject.table(column->column.column.table).columns[column->column.column.column];
      if (!stored.broken.empty() || stored.data.distinct == 0 || stored.data.type.kind == TypeKind::boolean) return;
      std::vector<std::string> missing;
      for (std::size_t i = 0; i < n.children.size(); ++i) {
        const Node& value = *n.children[i];
        if (&value == column.get()) continue;
        // A parameter may have another value tomorrow.
        if (value.op != Op::literal || value.parameter || value.literal.is_null() || value.type != stored.data.type)
          return;
        if (!stored.data.code_of(value.literal)) missing.push_back(written_value(value.literal, value.type));
      }
      if (missing.empty()) return;
      const std::string column_name = model.column_name(column->column.column);
      std::string fix = "write a value that is there, or leave the condition out";
      if (stored.data.type.kind == TypeKind::text && stored.data.distinct <= 1000) {
        std::vector<std::string> there;
        for (std::uint64_t code = 0; code < stored.data.distinct; ++code) there.emplace_back(stored.data.text_of(code));
        const std::string wanted = missing[0].substr(1, missing[0].size() - 2);
        if (const std::string near = base::nearest_name(wanted, there); !near.empty())
          fix = fmt::format("did you mean {}?", written_text(near));
      }
      findings.push_back(subject.about(
          definition.name, definition.name_span,
          fmt::format("{}: no row of {} has {}", model.sources.text(n.span), column_name, fmt::join(missing, ", ")),
          fix));
    });
  });
}

}  // namespace juniper::auditing
