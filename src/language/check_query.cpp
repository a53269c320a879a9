// Checks a query: its clauses, and that each key and filter reaches what it shows.
#include "language/check_query.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/diagnostics.h"
#include "language/check.h"
#include "language/check_expression.h"
#include "language/reporter.h"
#include "language/slices.h"
#include "language/traverse.h"

namespace juniper::language {

namespace {

class QueryChecker {
 public:
  QueryChecker(const Definitions& definitions, Diagnostics& diagnostics)
      : model_(definitions.model),
        definitions_(definitions),
        diagnostics_(diagnostics),
        report_(model_.sources, diagnostics) {}

  Query check(const syntax::Query& text, const std::vector<const syntax::Expression*>& further_where) {
    query_.span = text.span;
    query_.title = text.title;
    query_.budget_nanoseconds = text.budget_nanoseconds;
    if (text.name) query_.name = text.name->text;
    query_.limit = text.limit;
    query_.keep_empty = text.keep_empty;
    const std::size_t errors = diagnostics_.size();
    if (text.from) from(*text.from);
    for (const syntax::ByItem& item : text.by) by(item);
    for (const syntax::ShowItem& item : text.show) show(item);
    if (text.where) where(*text.where);
    for (const syntax::Expression* condition : further_where) where(*condition);
    if (text.show.empty()) {
      report_.error(text.name ? text.name->span : text.span, "JR-408", "this query shows nothing",
                    "name at least one measure: show MEASURE");
    }
    // What follows compares the parts with each other, and would only repeat the errors of those that are missing.
    if (incomplete_ || diagnostics_.size() != errors) return query_;
    unique_names();
    if (text.having) having(*text.having);
    for (const syntax::TotalItem& item : text.totals) total(item);
    for (const syntax::SortItem& item : text.sort) sort(item);
    reach();
    return std::move(query_);
  }

 private:
  static Scope columns_only() {
    Scope scope;
    scope.kind = ScopeKind::slice;
    scope.aggregates = false;
    return scope;
  }

  void from(const syntax::Name& name) {
    query_.from = model_.find_table(name.text);
    if (const Disabled* const disabled = model_.find_disabled(DefinitionKind::calculated_table, name.text)) {
      diagnostics_.push_back(told_disabled(model_.sources, name.span, *disabled));
    } else if (!query_.from)
      report_.error(name.span, "JR-201", fmt::format("there is no table '{}'", name.text));
  }

  // A column, or an expression over columns, which needs a name. No key is made of another one.
  void by(const syntax::ByItem& item) {
    NodePtr expression = check_expression(definitions_, *item.expression, columns_only(), diagnostics_);
    incomplete_ = incomplete_ || !expression;
    if (!expression) return;
    const Span span = item.expression->span;
    const std::string written(model_.sources.text(span));
    if (column_refs(expression).empty()) {
      report_.error(span, "JR-404", "this key reads no column, and is the same in every row", "leave it out");
      return;
    }
    if (expression->op != Op::column && !item.alias) {
      report_.error(span, "JR-414", "a key that is an expression needs a name",
                    fmt::format("write: by {} as NAME", written));
      return;
    }
    query_.by.push_back({item.alias ? item.alias->text : written, expression, span, definitions_.fresh()});
  }

  void show(const syntax::ShowItem& item) {
    Scope scope;
    scope.grouping = &query_.by;
    NodePtr node = check_expression(definitions_, *item.expression, scope, diagnostics_);
    incomplete_ = incomplete_ || !node;
    if (!node) return;
    QueryShow shown{"", node, "", item.span};
    if (node->op == Op::measure) shown.name = model_.measures[node->measure].name;
    shown.format = format_of(*node);
    if (item.alias) {
      shown.name = item.alias->text;
    } else if (shown.name.empty()) {
      shown.name = model_.sources.text(item.span);
    }
    query_.show.push_back(std::move(shown));
  }

  // A measure in another slice, and what is added to or taken from it, is shown as the measure is.
  std::string format_of(const Node& node) const {
    if (node.op == Op::measure) return model_.measures[node.measure].format;
    if (node.op == Op::modified) return format_of(*node.children[0]);
    if (node.op != Op::add && node.op != Op::subtract) return "";
    const std::string format = format_of(*node.children[0]);
    return format == format_of(*node.children[1]) ? format : "";
  }

  void where(const syntax::Expression& expression) {
    Scope scope = columns_only();
    scope.keys = &query_.by;
    if (NodePtr condition = check_condition(definitions_, expression, scope, diagnostics_)) {
      split_conjunction(condition, query_.where);
    } else {
      incomplete_ = true;
    }
  }

  void having(const syntax::Expression& expression) {
    Scope scope;
    scope.shown = &query_.show;
    scope.keys = &query_.by;
    scope.grouping = &query_.by;
    query_.having = check_condition(definitions_, expression, scope, diagnostics_);
  }

  void unique_names() {
    std::set<std::string> names;
    const auto add = [&](const std::string& name, Span span) {
      if (!names.insert(name).second) {
        report_.error(span, "JR-203", fmt::format("the result would have two columns '{}'", name),
                      "give one another name: … as NAME");
      }
    };
    for (const QueryBy& item : query_.by) add(item.name, item.span);
    for (const QueryShow& item : query_.show) add(item.name, item.span);
  }

  std::vector<std::string> result_names() const {
    std::vector<std::string> names;
    for (const QueryBy& item : query_.by) names.push_back(item.name);
    for (const QueryShow& item : query_.show) names.push_back(item.name);
    return names;
  }

  // The result column that a path in `total` or `sort` names: by its written form, its alias, or the column itself.
  std::optional<std::uint32_t> result_column(const syntax::Path& path, bool by_only) {
    const std::string written(model_.sources.text(path.span));
    const std::vector<std::string> names = result_names();
    const std::size_t count = by_only ? query_.by.size() : names.size();
    for (std::uint32_t i = 0; i < count; ++i) {
      if (names[i] == written || (path.parts.size() == 1 && names[i] == path.parts[0].text)) return i;
    }
    if (path.parts.size() > 1) {
      Diagnostics ignored;
      const auto ref = check_column_path(definitions_, path, columns_only(), ignored);
      for (std::uint32_t i = 0; ref && i < query_.by.size(); ++i) {
        if (query_.by[i].is_column() && query_.by[i].column() == *ref) return i;
      }
    }
    report_.error(path.span, "JR-407",
                  fmt::format("'{}' is not {} of this query", written, by_only ? "a `by` column" : "a column"),
                  base::did_you_mean(written, {names.begin(), names.begin() + static_cast<std::ptrdiff_t>(count)}));
    return std::nullopt;
  }

  void total(const syntax::TotalItem& item) {
    std::vector<std::uint32_t> kept;
    for (const syntax::Path& path : item.kept) {
      const auto column = result_column(path, true);
      if (!column) return;
      kept.push_back(*column);
    }
    std::sort(kept.begin(), kept.end());
    kept.erase(std::unique(kept.begin(), kept.end()), kept.end());
    if (kept.size() == query_.by.size()) {
      report_.error(item.span, "JR-407",
                    kept.empty() ? "a query without `by` is its own grand total"
                                 : "this total keeps every `by` column: it would repeat the rows",
                    "leave it out");
      return;
    }
    if (std::find(query_.totals.begin(), query_.totals.end(), kept) == query_.totals.end())
      query_.totals.push_back(std::move(kept));
  }

  void sort(const syntax::SortItem& item) {
    if (const auto column = result_column(item.path, false)) query_.sort.push_back({*column, item.descending});
  }

  // Each filter and key must reach a table of each shown measure, or be dropped there in so many words; and none in
  // part.
  void reach() {
    const std::size_t errors = diagnostics_.size();
    SliceStart start;
    for (const QueryBy& key : query_.by) {
      start.predicates.push_back({PredicateKind::key, key.expression, 0, key.span, start.predicates.size()});
    }
    for (const NodePtr& condition : query_.where) {
      if (column_refs(condition).empty()) {
        report_.error(condition->span, "JR-404", "this condition reads no column", "leave it out");
      }
      start.predicates.push_back({PredicateKind::filter, condition, 0, condition->span, start.predicates.size()});
    }
    std::set<SeenTable> tables;
    for (const QueryShow& item : query_.show) {
      start.what = item.name;
      const SliceUse use = follow_slices(model_, item.expression, start, diagnostics_);
      tables.insert(use.tables.begin(), use.tables.end());
      if (use.tables.empty() || has_errors(diagnostics_)) continue;  // a constant is the same in every slice
      for (const Predicate& predicate : start.predicates) {
        if (!use.reached.contains(predicate.id) && !use.dropped.contains(predicate.id)) missed(item, predicate, use);
      }
    }
    if (query_.having) {
      start.what = "having";
      follow_slices(model_, query_.having, start, diagnostics_);
    }
    if (!has_errors(diagnostics_) || diagnostics_.size() == errors) row_tables(tables);
  }

  void missed(const QueryShow& item, const Predicate& predicate, const SliceUse& use) {
    const std::string tables = table_list(use.tables);
    if (predicate.kind == PredicateKind::key) {
      report_.error(
          predicate.span, "JR-403",
          fmt::format("'{}' does not reach {}, over which '{}' goes: its total would be repeated in every row",
                      query_.by[predicate.id].name, tables, item.name),
          fmt::format("leave '{}' out, group by a column that {} leads to, or say that it is meant: ({} across "
                      "{})",
                      item.name, tables, item.name, columns_of(predicate)));
      return;
    }
    report_.error(
        predicate.span, "JR-403",
        fmt::format("this condition does not reach {}, over which '{}' goes: it would change nothing there", tables,
                    item.name),
        fmt::format("leave '{}' out of the query, or filter by a column that {} leads to", item.name, tables));
  }

  // The columns of a key, as `across` takes them.
  std::string columns_of(const Predicate& predicate) const {
    std::vector<std::string> names;
    walk(predicate.expression, [&](const Node& node) {
      std::string name(node.op == Op::column ? model_.sources.text(node.span) : "");
      if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end()) names.push_back(std::move(name));
    });
    return names.size() == 1 ? names[0] : fmt::format("({})", fmt::join(names, ", "));
  }

  std::string table_list(const std::set<SeenTable>& tables) const {
    std::set<TableIndex> each;
    std::string list;
    for (const SeenTable& seen : tables) {
      if (each.insert(seen.table).second) list += (list.empty() ? "" : ", ") + model_.tables[seen.table].name;
    }
    return list;
  }

  // The rows are combinations that occur in some table: there must be one that leads to all `by` columns.
  void row_tables(const std::set<SeenTable>& tables) {
    if (query_.by.empty()) return;
    const auto leads = [&](const SeenTable& seen) {
      return std::all_of(query_.by.begin(), query_.by.end(), [&](const QueryBy& key) {
        const Predicate predicate{PredicateKind::key, key.expression, 0, key.span, 0};
        return language::reach(model_, predicate, seen.table, seen.roles) == Reach::all ||
               bridge_of(model_, predicate, seen);
      });
    };
    if (query_.from) {
      const SeenTable from{*query_.from, {}, {}};
      if (!leads(from)) {
        report_.error(query_.by[0].span, "JR-406",
                      fmt::format("{} does not lead to all `by` columns", model_.tables[*query_.from].name));
      }
      query_.sources.push_back(from);
      return;
    }
    for (const SeenTable& seen : tables) {
      if (leads(seen)) query_.sources.push_back(seen);
    }
    if (!query_.sources.empty()) return;
    report_.error(query_.by[0].span, "JR-406", "no table of the shown measures leads to all `by` columns",
                  "name the table whose combinations are the rows: from TABLE");
  }

  const CheckedModel& model_;
  const Definitions& definitions_;
  Diagnostics& diagnostics_;
  Reporter report_;
  Query query_;
  bool incomplete_ = false;  // a part has errors, here or in what it names
};

}  // namespace

Query check_query(const Definitions& definitions, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics) {
  return QueryChecker(definitions, diagnostics).check(query, further_where);
}

Query check_query(const CheckedModel& model, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics) {
  VariableId next = model.variables;
  const Definitions definitions{model, [&](ColumnId id, Span) { return std::optional(model.column(id).type); },
                                [&](MeasureIndex m, Span) { return std::optional(model.measures[m].expression->type); },
                                [&] { return next++; }};
  return check_query(definitions, query, further_where, diagnostics);
}

}  // namespace juniper::language
