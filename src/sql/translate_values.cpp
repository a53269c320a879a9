// Scalars, and the statement's names.
#include <fmt/format.h>

#include "base/failure.h"
#include "language/operations.h"
#include "sql/aliases.h"
#include "sql/translator.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

constexpr std::size_t most_measure_bytes = std::size_t{4} << 20;

// True for what can be infinite over reals that are not.
bool operation_may_leave_finite(const Node& node) {
  return node.type.kind == TypeKind::real &&
         (node.op == Op::add || node.op == Op::subtract || node.op == Op::multiply || node.op == Op::divide ||
          (node.op == Op::call && (node.function == Function::exp || node.function == Function::power)));
}

}  // namespace

Translator::Translator(const CheckedModel& model, const Dialect& dialect, std::int64_t today)
    : model_(model), dialect_(dialect), today_(today), parts_(model) {}

std::string Translator::next_alias() {
  return alias_text(++aliases_);
}

std::string Translator::value(const NodePtr& node, const Scope& scope) {
  switch (form_of(node->op)) {
    case OpForm::literal:
      return dialect_.literal(node->literal, node->type);
    case OpForm::column: {
      const RowSql& row = scope.rows.at(node->variable);
      return column(*row.from, routed(model_, node->column, row.slice.roles));
    }
    case OpForm::field:
      return scope.rows.at(node->variable).fields[node->field];
    case OpForm::name:
      return scope.names.at(node->variable);
    case OpForm::measure: {
      Scope inner;
      inner.slice = scope.slice;
      inner.measures = scope.measures ? scope.measures : std::make_shared<std::map<MeasureIndex, std::string>>();
      const auto known = inner.measures->find(node->measure);
      if (known != inner.measures->end()) return known->second;
      std::string text = value(model_.measures[node->measure].expression, inner);
      if (text.size() > most_measure_bytes) {
        throw base::Failure({model_.sources.diagnostic(
            Severity::error, "JR-710", node->span,
            fmt::format("'{}' written out in SQL would take more than {} MB", model_.measures[node->measure].name,
                        most_measure_bytes >> 20),
            "measures that name others several times grow with each of them: SQL has no names for their values")});
      }
      return inner.measures->emplace(node->measure, std::move(text)).first->second;
    }
    case OpForm::modified: {
      Scope inner = scope;
      inner.slice = modified(*node->modifiers, scope);
      inner.measures = nullptr;
      return value(node->children[0], inner);
    }
    case OpForm::let: {
      Scope inner = scope;
      for (const Let& let : node->lets) {
        if (let.rows) {
          inner.sets[let.name] = {let.rows, std::make_shared<const Scope>(inner)};
        } else {
          inner.names[let.name] = "(" + value(let.value, inner) + ")";
        }
      }
      return value(node->children[0], inner);
    }
    case OpForm::aggregate:
      return aggregate(*node, scope);
    case OpForm::grouping:
      return dialect_.literal(Value::of(int128{is_grouped(*node, scope.slice) ? 0 : 1}), node->type);
    case OpForm::operation: {
      std::vector<std::string> operands;
      for (const NodePtr& child : node->children) operands.push_back(value(child, scope));
      const std::string result = dialect_.operation(*node, operands, today_);
      return operation_may_leave_finite(*node) ? dialect_.finite(result) : result;
    }
  }
  return "NULL";
}

}  // namespace juniper::sql_engine
