// Expressions, and aggregates over rows, by the naive evaluator.
#include "engine/naive/evaluator.h"

#include <algorithm>

#include "engine/naive/values.h"
#include "language/operations.h"

namespace juniper::engine::naive {

Cell Naive::value(const NodePtr& node, const Scope& scope) {
  count_step();
  switch (form_of(node->op)) {
    case OpForm::literal:
      return {node->literal, false};
    case OpForm::column:
      return read(scope.rows.at(node->variable), node->column, scope.rows.at(node->variable).slice.roles);
    case OpForm::field:
      return scope.rows.at(node->variable).fields[node->field];
    case OpForm::name: {
      NamedValue& named = *scope.values.at(node->variable);
      if (!named.value) named.value = value(named.expression, *named.around);
      return *named.value;
    }
    case OpForm::measure: {
      Scope inner;
      inner.slice = scope.slice;
      inner.measures = scope.measures ? scope.measures : std::make_shared<std::map<MeasureIndex, Cell>>();
      const auto known = inner.measures->find(node->measure);
      if (known != inner.measures->end()) return known->second;
      Cell result = value(model_.measures[node->measure].expression, inner);
      return inner.measures->emplace(node->measure, std::move(result)).first->second;
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
        const auto around = std::make_shared<const Scope>(inner);
        if (let.rows) {
          inner.sets[let.name] = std::make_shared<NamedRows>(NamedRows{let.rows, around});
        } else {
          inner.values[let.name] = std::make_shared<NamedValue>(NamedValue{let.value, around});
        }
      }
      return value(node->children[0], inner);
    }
    case OpForm::aggregate:
      return aggregate(*node, scope);
    case OpForm::grouping:
      return number(is_grouped(*node, scope.slice) ? 0 : 1);
    case OpForm::operation: {
      // Of cases, those behind the first that holds are not asked.
      for (std::size_t i = 0; node->op == Op::cases && i + 1 < node->children.size(); i += 2) {
        const Cell condition = value(node->children[i], scope);
        if (condition.overflow) return condition;
        if (is_true(condition)) return value(node->children[i + 1], scope);
      }
      if (node->op == Op::cases) return value(node->children.back(), scope);
      std::vector<Cell> operands;
      for (const NodePtr& child : node->children) operands.push_back(value(child, scope));
      return apply(*node, operands, setting_);
    }
  }
  return {};
}

Cell Naive::read(const Row& row, const ColumnRef& ref, const Roles& roles) {
  const auto at = row_at(row, routed(model_, ref, roles).path);
  return at ? Cell{data_.column(ref.column)[*at], false} : Cell{};
}

Scope Naive::row_scope(TableIndex table, std::uint64_t row, VariableId variable) {
  Scope scope;
  Row here;
  here.table = table;
  here.row = row;
  scope.rows[variable] = here;
  return scope;
}

Cell Naive::aggregate(const Node& node, const Scope& scope) {
  try {
    return aggregate_rows(node, scope);
  } catch (const RowsOverflow&) {
    return {Value(), true};
  }
}

Cell Naive::aggregate_rows(const Node& node, const Scope& scope) {
  if (node.aggregate == Aggregate::rank) return rank(node, scope);
  const std::vector<Row> all = rows(node.rows, scope);
  if (node.aggregate == Aggregate::row_count) return number(static_cast<std::int64_t>(all.size()));
  if (node.aggregate == Aggregate::exists) return number(all.empty() ? 0 : 1);
  if (node.aggregate == Aggregate::first || node.aggregate == Aggregate::last) return edge(node, all, scope);
  std::vector<Value> values;
  bool nulls = false;
  for (const Row& row : all) {
    const Cell cell = value(node.children[0], inside(scope, row));
    if (cell.overflow) return cell;
    if (cell.value.is_null()) {
      nulls = true;
    } else {
      values.push_back(cell.value);
    }
  }
  if (node.aggregate == Aggregate::only) {
    std::sort(values.begin(), values.end(), [](const Value& a, const Value& b) { return compare(a, b) < 0; });
    const bool one = !nulls && !values.empty() && compare(values.front(), values.back()) == 0;
    return one ? Cell{values.front(), false} : Cell{};
  }
  return aggregate_values(node, std::move(values));
}

Cell Naive::edge(const Node& node, const std::vector<Row>& all, const Scope& scope) {
  const Row* best = nullptr;
  std::vector<Value> best_keys;
  for (const Row& row : all) {
    std::vector<Value> keys;
    for (std::size_t k = 1; k < node.children.size(); ++k) keys.push_back(key_of(node.children[k], inside(scope, row)));
    if (std::any_of(keys.begin(), keys.end(), [](const Value& v) { return v.is_null(); })) continue;
    int order = 0;
    for (std::size_t k = 0; k < keys.size() && best != nullptr && order == 0; ++k)
      order = directed(keys[k], best_keys[k], node.descending[k]);
    if (best != nullptr && order == 0) order = in_order(row, *best) ? -1 : 1;
    if (best != nullptr && (node.aggregate == Aggregate::first ? order > 0 : order < 0)) continue;
    best = &row;
    best_keys = std::move(keys);
  }
  return best != nullptr ? value(node.children[0], inside(scope, *best)) : Cell{};
}

Cell Naive::rank(const Node& node, const Scope& scope) {
  const Cell x = value(node.children[0], scope);
  if (x.overflow || x.value.is_null()) return x;
  std::vector<Value> before;
  for (const Row& row : rows(node.rows, scope)) {
    const Cell y = value(node.children[1], inside(scope, row));
    if (y.overflow) return y;
    if (y.value.is_null()) continue;
    const int order = compare(y.value, x.value);
    if (node.descending[0] ? order > 0 : order < 0) before.push_back(y.value);
  }
  if (node.dense) {
    std::sort(before.begin(), before.end(), [](const Value& a, const Value& b) { return compare(a, b) < 0; });
    before.erase(std::unique(before.begin(), before.end()), before.end());
  }
  return number(static_cast<std::int64_t>(before.size()) + 1);
}

}  // namespace juniper::engine::naive
