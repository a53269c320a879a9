// What changes the slice in which a measure is evaluated.
#include <algorithm>

#include "language/expression_checker.h"
#include "language/traverse.h"

namespace juniper::language {

using syntax::Expression;
using syntax::Form;

NodePtr ExpressionChecker::modified(const Expression& e) {
  if (!scope_.aggregates) {
    return error(e.span, "JR-405",
                 "a measure can't choose or group the rows of a query: `where` and `by` hold columns");
  }
  const syntax::Modifiers& text = *e.modifiers;
  auto modifiers = std::make_shared<Modifiers>();
  const Expression& operand = *e.children[0];
  // In a row's scope the slice that is meant must be said; a name of `let` and a table's column are no measures.
  if (scope_.in_row && !text.of && operand.form == Form::path) return bare_measure_in_row(operand);
  if (scope_.in_row && !text.of) {
    return error(e.span, "JR-401", "here stands a row: the value for all of the slice, and that for this row, differ",
                 fmt::format("say `{} of {} …` or `{} of slice …`", written(operand.span), row_text(scope_.rows.back()),
                             written(operand.span)));
  }
  Scope inner = scope_;
  inner.kind = ScopeKind::measure;
  inner.in_row = false;
  NodePtr value = within(inner).check(operand);
  bool good = value != nullptr;
  if (text.of) good = narrowed_to(*text.of, *modifiers) && good;
  if (text.via) {
    modifiers->via = find_role(*text.via);
    good = good && modifiers->via;
  }
  if (text.through) {
    modifiers->through = bridge(*text.through);
    good = good && modifiers->through;
  }
  if (text.across) {
    modifiers->across = across(*text.across);
    good = good && modifiers->across;
  }
  if (text.during) {
    modifiers->during = during(*text.during);
    good = good && modifiers->during;
  }
  if (text.where) good = add_conditions(*text.where, *modifiers) && good;
  if (!good) return nullptr;
  auto node = std::make_shared<Node>();
  node->op = Op::modified;
  node->type = value->type;
  node->span = e.span;
  node->children = {std::move(value)};
  node->modifiers = std::move(modifiers);
  return node;
}

bool ExpressionChecker::narrowed_to(const syntax::Name& name, Modifiers& modifiers) {
  if (name.text == "slice") {
    modifiers.of_slice = true;
    return true;
  }
  const RowInScope* row = find_row(name.text);
  if (row == nullptr) {
    error(name.span, "JR-201", fmt::format("there is no row '{}' in scope", name.text),
          scope_.rows.empty() ? "a row comes with an aggregate: max(revenue of s for s in stations)"
                              : fmt::format("the row around is '{}'", row_text(scope_.rows.back())));
    return false;
  }
  const bool union_of_slices = row->set && row->set->kind == RowsKind::unite;
  if (row->set && (!row->table || union_of_slices) && !row->set->not_narrowing.empty()) {
    error(name.span, "JR-409", fmt::format("a slice can't be narrowed to '{}': {}", name.text, row->set->not_narrowing),
          "group by columns and filter by columns, or aggregate over `rows` in the group's `with`");
    return false;
  }
  modifiers.of = row->variable;
  return true;
}

std::optional<Through> ExpressionChecker::bridge(const syntax::Name& name) {
  if (const auto table = model_.find_table(name.text)) return Through{*table, name.span};
  if (is_disabled(name.span, DefinitionKind::calculated_table, name.text)) return std::nullopt;
  std::vector<std::string> tables;
  for (const Table& table : model_.tables) tables.push_back(table.name);
  std::string fix = base::did_you_mean(name.text, tables);
  if (fix.empty()) fix = "`through` names a table whose rows say what belongs to what";
  return no_column(name.span, "JR-201", fmt::format("there is no table '{}'", name.text), fix);
}

std::optional<Across> ExpressionChecker::across(const syntax::Across& text) {
  Across across;
  across.everything = text.everything;
  across.span = text.span;
  for (const syntax::Path& item : text.items) {
    if (item.parts.size() > 1) {
      const auto column = slice_column(item);
      if (!column) return std::nullopt;
      across.columns.push_back(*column);
      continue;
    }
    const std::string& name = item.parts[0].text;
    const auto role =
        std::find_if(model_.links.begin(), model_.links.end(), [&](const Link& link) { return link.role == name; });
    if (const auto table = model_.find_table(name)) {
      across.tables.push_back(*table);
    } else if (role != model_.links.end()) {
      across.roles.push_back(static_cast<LinkIndex>(role - model_.links.begin()));
    } else {
      if (is_disabled(item.span, DefinitionKind::calculated_table, name)) return std::nullopt;
      std::string fix = base::did_you_mean(name, table_and_role_names());
      if (fix.empty()) fix = elsewhere(name);
      return no_column(item.span, "JR-201",
                       fmt::format("there is no table or role '{}' whose filters could be dropped", name), fix);
    }
  }
  return across;
}

std::optional<During> ExpressionChecker::during(const syntax::DuringClause& text) {
  if (!model_.calendar) {
    return no_column(text.span, "JR-410", "`during` moves in a calendar, and the model declares none",
                     "declare it: calendar TABLE.DAY periods (YEAR, MONTH)");
  }
  const auto unit = unit_named(text.unit.text);
  if (!unit) {
    return no_column(text.unit.span, "JR-410", fmt::format("there is no unit '{}'", text.unit.text),
                     "the units are day, week, month, quarter and year");
  }
  During during;
  during.period = static_cast<Period>(text.kind);
  during.unit = *unit;
  during.count = text.count;
  during.span = text.span;
  return during;
}

bool ExpressionChecker::add_conditions(const Expression& text, Modifiers& modifiers) {
  Scope scope = scope_;
  scope.kind = ScopeKind::slice;
  const NodePtr condition = within(scope).condition(text);
  if (!condition) return false;
  std::vector<NodePtr> parts;
  split_conjunction(condition, parts);
  for (const NodePtr& part : parts) {
    bool reads = false;
    walk_scalars(part, [&](const Node& n) { reads = reads || (n.op == Op::column && n.variable == slice_row); });
    if (!reads) {
      error(part->span, "JR-404", "this condition reads no column of the slice, so it would keep all rows or none",
            "decide outside of the slice: if CONDITION then MEASURE");
      return false;
    }
  }
  modifiers.where.insert(modifiers.where.end(), parts.begin(), parts.end());
  return true;
}

}  // namespace juniper::language
