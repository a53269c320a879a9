#include "language/check.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "base/format.h"
#include "language/check_expression.h"
#include "language/lexer.h"

namespace juniper::language {

namespace {

void add_tables(const CheckedModel& model, const NodePtr& node, std::set<TableIndex>& tables) {
  walk(node, [&](const Node& n) {
    if (n.op == Op::aggregate) tables.insert(n.rows.table);
    if (n.op == Op::measure) add_tables(model, model.measures[n.measure].expression, tables);
  });
}

}  // namespace

std::vector<TableIndex> aggregated_tables(const CheckedModel& model, const NodePtr& node) {
  std::set<TableIndex> tables;
  add_tables(model, node, tables);
  return {tables.begin(), tables.end()};
}

std::vector<ColumnRef> column_refs(const NodePtr& node) {
  std::vector<ColumnRef> refs;
  walk(node, [&](const Node& n) {
    if (n.op == Op::column) refs.push_back(n.column);
  });
  return refs;
}

bool reaches(const CheckedModel& model, const NodePtr& condition, TableIndex table) {
  const auto refs = column_refs(condition);
  return !refs.empty() &&
         std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& ref) { return model.rebase(ref, table).ref; });
}

namespace {

class Reporter {
 public:
  Reporter(const Sources& sources, Diagnostics& diagnostics) : sources_(sources), diagnostics_(diagnostics) {}
  void error(Span span, std::string code, std::string message, std::string suggestion = "") const {
    diagnostics_.push_back(
        sources_.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
  }

 private:
  const Sources& sources_;
  Diagnostics& diagnostics_;
};

void split_conjunction(const NodePtr& condition, std::vector<NodePtr>& parts) {
  if (condition->op == Op::and_) {
    split_conjunction(condition->children[0], parts);
    split_conjunction(condition->children[1], parts);
  } else {
    parts.push_back(condition);
  }
}

// --- one query ------------------------------------------------------------------------------------------------------

class QueryChecker {
 public:
  QueryChecker(const CheckedModel& model, const Definitions& definitions, Diagnostics& diagnostics)
      : model_(model), definitions_(definitions), diagnostics_(diagnostics), report_(model.sources, diagnostics) {}

  Query check(const syntax::Query& text, const std::vector<const syntax::Expression*>& further_where) {
    query_.span = text.span;
    query_.title = text.title;
    if (text.name) query_.name = text.name->text;
    query_.limit = text.limit;
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
    for (const syntax::TotalItem& item : text.totals) total(item);
    for (const syntax::SortItem& item : text.sort) sort(item);
    reach();
    return std::move(query_);
  }

 private:
  static constexpr Scope slice{ScopeKind::slice, 0, {}, false, false};

  void from(const syntax::Name& name) {
    query_.from = model_.find_table(name.text);
    if (!query_.from) report_.error(name.span, "JR-201", fmt::format("there is no table '{}'", name.text));
  }

  void by(const syntax::ByItem& item) {
    const auto ref = check_column_path(definitions_, item.path, slice, diagnostics_);
    incomplete_ = incomplete_ || !ref;
    if (!ref) return;
    query_.by.push_back(
        {item.alias ? item.alias->text : std::string(model_.sources.text(item.path.span)), *ref, item.path.span});
  }

  void show(const syntax::ShowItem& item) {
    NodePtr node = check_expression(definitions_, *item.expression, Scope{}, diagnostics_);
    incomplete_ = incomplete_ || !node;
    if (!node) return;
    QueryShow shown{"", node, "", item.span};
    if (node->op == Op::measure) {
      shown.name = model_.measures[node->measure].name;
      shown.format = model_.measures[node->measure].format;
    }
    if (item.alias) {
      shown.name = item.alias->text;
    } else if (shown.name.empty()) {
      shown.name = model_.sources.text(item.span);
    }
    query_.show.push_back(std::move(shown));
  }

  void where(const syntax::Expression& expression) {
    if (NodePtr condition = check_condition(definitions_, expression, slice, diagnostics_)) {
      split_conjunction(condition, query_.where);
    } else {
      incomplete_ = true;
    }
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
      const auto ref = check_column_path(definitions_, path, slice, ignored);
      for (std::uint32_t i = 0; ref && i < query_.by.size(); ++i) {
        if (query_.by[i].column == *ref) return i;
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

  // Section 6 of the language: each filter and key must reach a table of each shown measure, and none in part.
  void reach() {
    const std::size_t errors = diagnostics_.size();
    for (const QueryShow& item : query_.show) {
      const std::vector<TableIndex> tables = aggregated_tables(model_, item.expression);
      if (tables.empty()) continue;  // a constant is the same in every slice
      for (const QueryBy& key : query_.by) reach_key(item, key, tables);
      for (const NodePtr& condition : query_.where) reach_filter(item, condition, tables);
    }
    if (diagnostics_.size() == errors) row_tables();
  }

  bool ambiguous(const ColumnRef& ref, TableIndex table, Span span) {
    if (!model_.rebase(ref, table).ambiguous) return false;
    report_.error(
        span, "JR-208",
        fmt::format("several paths lead from {} to {}", model_.tables[table].name, model_.tables[ref.start].name),
        "this version follows one path here: give one of the links a role (as NAME), or write the path by its first "
        "table");
    return true;
  }

  void reach_key(const QueryShow& item, const QueryBy& key, const std::vector<TableIndex>& tables) {
    bool reached = false;
    for (const TableIndex table : tables) {
      if (ambiguous(key.column, table, key.span)) return;
      reached = reached || model_.rebase(key.column, table).ref;
    }
    if (reached) return;
    report_.error(key.span, "JR-403",
                  fmt::format("'{}' does not reach {}, over which '{}' goes: its total would be repeated in every row",
                              key.name, table_list(tables), item.name),
                  fmt::format("leave '{}' out, or group by a column that {} leads to", item.name, table_list(tables)));
  }

  void reach_filter(const QueryShow& item, const NodePtr& condition, const std::vector<TableIndex>& tables) {
    const std::vector<ColumnRef> refs = column_refs(condition);
    if (refs.empty()) {
      report_.error(condition->span, "JR-404", "this condition reads no column", "leave it out");
      return;
    }
    bool reached = false;
    for (const TableIndex table : tables) {
      std::size_t found = 0;
      for (const ColumnRef& ref : refs) {
        if (ambiguous(ref, table, condition->span)) return;
        found += model_.rebase(ref, table).ref ? 1 : 0;
      }
      if (found != 0 && found != refs.size()) {
        report_.error(condition->span, "JR-404",
                      fmt::format("only a part of this condition reaches {}, over which '{}' goes",
                                  model_.tables[table].name, item.name),
                      "split it into conditions joined by `and`, each over tables that all are reached or all are not");
        return;
      }
      reached = reached || found == refs.size();
    }
    if (!reached) {
      report_.error(condition->span, "JR-403",
                    fmt::format("this condition does not reach {}, over which '{}' goes: it would change nothing there",
                                table_list(tables), item.name),
                    fmt::format("leave '{}' out of the query, or filter by a column that {} leads to", item.name,
                                table_list(tables)));
    }
  }

  std::string table_list(const std::vector<TableIndex>& tables) const {
    std::string list;
    for (const TableIndex table : tables) list += (list.empty() ? "" : ", ") + model_.tables[table].name;
    return list;
  }

  // The rows are combinations that occur in some table: there must be one that leads to all `by` columns.
  void row_tables() {
    if (query_.by.empty()) return;
    const auto leads = [&](TableIndex table) {
      return std::all_of(query_.by.begin(), query_.by.end(),
                         [&](const QueryBy& key) { return model_.rebase(key.column, table).ref; });
    };
    if (query_.from) {
      if (!leads(*query_.from)) {
        report_.error(query_.by[0].span, "JR-406",
                      fmt::format("{} does not lead to all `by` columns", model_.tables[*query_.from].name));
      }
      return;
    }
    for (const QueryShow& item : query_.show) {
      for (const TableIndex table : aggregated_tables(model_, item.expression)) {
        if (leads(table)) return;
      }
    }
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

// --- the model ------------------------------------------------------------------------------------------------------

class ModelChecker {
 public:
  ModelChecker(const syntax::Model& text, Sources sources, Diagnostics& diagnostics)
      : text_(text),
        diagnostics_(diagnostics),
        report_(model_.sources, diagnostics),
        definitions_{model_, [this](ColumnId id, Span use) { return column_type(id, use); },
                     [this](MeasureIndex m, Span use) { return measure_type(m, use); }} {
    model_.sources = std::move(sources);
    model_.name = text.name.value_or("");
  }

  CheckedModel check() {
    declare_tables();
    declare_links();
    declare_measures();
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c)
        column_type({t, c}, model_.tables[t].columns[c].span);
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) measure_type(m, model_.measures[m].span);
    check_links();
    check_circles();
    check_formats();
    for (const syntax::Query& query : text_.queries) {
      declare(*query.name, "query");
      model_.queries.push_back(QueryChecker(model_, definitions_, diagnostics_).check(query, {}));
    }
    return std::move(model_);
  }

 private:
  enum class State : std::uint8_t { untouched, checking, good, bad };

  void declare(const syntax::Name& name, std::string_view what) {
    const auto [at, fresh] = names_.emplace(name.text, name.span);
    if (fresh) return;
    const Place first = model_.sources.place(at->second);
    report_.error(name.span, "JR-203",
                  fmt::format("the name '{}' of this {} is taken, in line {}", name.text, what, first.line),
                  "tables, measures, roles and queries share one set of names");
  }

  void declare_tables() {
    for (const syntax::Table& text : text_.tables) {
      declare(text.name, "table");
      Table table;
      table.name = text.name.text;
      table.hidden = text.hidden;
      table.source_pattern = text.source;
      table.delimiter = text.delimiter ? text.delimiter->front() : ',';
      table.description = text.description;
      table.span = text.span;
      table.source_span = text.source_span;
      for (const syntax::Column& column : text.columns) declare_column(table, column);
      if (std::all_of(text.columns.begin(), text.columns.end(),
                      [](const syntax::Column& c) { return c.expression != nullptr; })) {
        report_.error(text.name.span, "JR-210",
                      fmt::format("table '{}' reads no column from its source", text.name.text),
                      "declare at least one: NAME TYPE");
      }
      sort_orders(table, text);
      model_.tables.push_back(std::move(table));
      column_states_.emplace_back(text.columns.size(), State::untouched);
    }
  }

  void declare_column(Table& table, const syntax::Column& text) {
    if (const auto taken = table.find(text.name.text)) {
      report_.error(text.name.span, "JR-203",
                    fmt::format("table '{}' has a column '{}' already", table.name, text.name.text));
    }
    Column column;
    column.name = text.name.text;
    column.key = text.key;
    column.hidden = text.hidden;
    if (text.type) {
      column.type = text.type->type;
      column.header = text.header.value_or(text.name.text);
    }
    column.format = text.attributes.format.value_or("");
    column.description = text.attributes.description;
    column.used_by = text.attributes.used_by;
    column.span = text.span;
    column.name_span = text.name.span;
    table.columns.push_back(std::move(column));
  }

  void sort_orders(Table& table, const syntax::Table& text) {
    for (std::size_t i = 0; i < text.columns.size(); ++i) {
      const auto& sorted_by = text.columns[i].attributes.sorted_by;
      if (!sorted_by) continue;
      table.columns[i].sorted_by = table.find(sorted_by->text);
      if (!table.columns[i].sorted_by) {
        report_.error(sorted_by->span, "JR-202",
                      fmt::format("there is no column '{}' in table '{}' to sort by", sorted_by->text, table.name));
      }
    }
  }

  std::optional<ColumnId> link_end(const syntax::Path& path) {
    const auto table = model_.find_table(path.parts[0].text);
    if (!table) {
      std::vector<std::string> names;
      for (const Table& t : model_.tables) names.push_back(t.name);
      report_.error(path.parts[0].span, "JR-201", fmt::format("there is no table '{}'", path.parts[0].text),
                    base::did_you_mean(path.parts[0].text, names));
      return std::nullopt;
    }
    const auto column = model_.tables[*table].find(path.parts[1].text);
    if (!column) {
      std::vector<std::string> names;
      for (const Column& c : model_.tables[*table].columns) names.push_back(c.name);
      report_.error(
          path.parts[1].span, "JR-202",
          fmt::format("there is no column '{}' in table '{}'", path.parts[1].text, model_.tables[*table].name),
          base::did_you_mean(path.parts[1].text, names));
      return std::nullopt;
    }
    return ColumnId{*table, *column};
  }

  void declare_links() {
    for (const syntax::Link& text : text_.links) {
      if (text.role) declare(*text.role, "role");
      const auto from = link_end(text.from);
      const auto to = link_end(text.to);
      if (!from || !to) continue;
      if (!model_.column(*to).key) {
        report_.error(text.to.span, "JR-206",
                      fmt::format("a link leads to a key, and {} is not declared as one", model_.column_name(*to)),
                      fmt::format("write `key {}` in table {}, or turn the link round", model_.column(*to).name,
                                  model_.tables[to->table].name));
      }
      const auto same = [&](const Link& l) {
        return l.role.empty() && !text.role && l.from.table == from->table && l.to.table == to->table;
      };
      if (std::any_of(model_.links.begin(), model_.links.end(), same)) {
        report_.error(text.span, "JR-206",
                      fmt::format("a second link from {} to {} needs a role", model_.tables[from->table].name,
                                  model_.tables[to->table].name),
                      "end it with: as NAME");
      }
      model_.links.push_back({*from, *to, text.role ? text.role->text : "", text.span});
    }
  }

  void check_links() {
    for (const Link& link : model_.links) {
      const auto from = column_type(link.from, link.span);
      const auto to = column_type(link.to, link.span);
      if (!from || !to) continue;
      if (from->kind == TypeKind::real || to->kind == TypeKind::real) {
        report_.error(link.span, "JR-206", "reals are no keys: equal numbers may differ in their last bit",
                      "declare both columns as integer, decimal or text");
      }
      if (*from == *to) continue;
      report_.error(
          link.span, "JR-206",
          fmt::format("the columns of this link have different types: {} is {}, {} is {}",
                      model_.column_name(link.from), to_string(*from), model_.column_name(link.to), to_string(*to)),
          "declare both with one type");
    }
  }

  void check_format(const syntax::Attributes& attributes, Type type) {
    if (!attributes.format) return;
    if (const std::string problem = base::pattern_problem(*attributes.format, type); !problem.empty()) {
      report_.error(attributes.format_span, "JR-306", problem,
                    "patterns are Unicode's: \"#,##0.00\", \"0.0%\", \"d MMM yyyy\"");
    }
  }

  void check_formats() {
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c)
        check_format(text_.tables[t].columns[c].attributes, model_.tables[t].columns[c].type);
    }
    for (MeasureIndex m = 0; m < model_.measures.size(); ++m) {
      if (model_.measures[m].expression)
        check_format(text_.measures[m].attributes, model_.measures[m].expression->type);
    }
  }

  // A calculated column may be what a link starts from, and then must not be reached over that link.
  void check_circles() {
    if (has_errors(diagnostics_)) return;
    std::map<ColumnId, State> states;
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        if (!rests_on_no_circle({t, c}, states)) return;
      }
    }
  }

  bool rests_on_no_circle(ColumnId id, std::map<ColumnId, State>& states) {
    State& state = states[id];
    if (state == State::good) return true;
    const Column& column = model_.column(id);
    if (state == State::checking) {
      report_.error(
          column.name_span, "JR-211",
          fmt::format("'{}' is computed over a link that needs '{}' itself", model_.column_name(id), column.name),
          "link by a column of the source");
      return false;
    }
    state = State::checking;
    bool good = true;
    const auto need = [&](ColumnId other) { good = good && rests_on_no_circle(other, states); };
    for (const ColumnRef& ref : column_refs(column.expression)) {
      for (const LinkIndex link : ref.path) {
        need(model_.links[link].from);
        need(model_.links[link].to);
      }
      need(ref.column);
    }
    states[id] = State::good;
    return good;
  }

  void declare_measures() {
    for (const syntax::Measure& text : text_.measures) {
      declare(text.name, "measure");
      Measure measure;
      measure.name = text.name.text;
      measure.hidden = text.hidden;
      measure.format = text.attributes.format.value_or("");
      measure.description = text.attributes.description;
      measure.used_by = text.attributes.used_by;
      measure.span = text.span;
      measure.name_span = text.name.span;
      model_.measures.push_back(std::move(measure));
    }
    measure_states_.assign(text_.measures.size(), State::untouched);
  }

  std::optional<Type> column_type(ColumnId id, Span use) {
    Column& column = model_.tables[id.table].columns[id.column];
    const syntax::Column& text = text_.tables[id.table].columns[id.column];
    if (!text.expression) return column.type;
    const Scope row{ScopeKind::row, id.table, "", true, false};
    return define(column_states_[id.table][id.column], model_.column_name(id), use, *text.expression, row,
                  column.expression, &column.type);
  }

  std::optional<Type> measure_type(MeasureIndex m, Span use) {
    Measure& measure = model_.measures[m];
    return define(measure_states_[m], measure.name, use, *text_.measures[m].expression, Scope{}, measure.expression,
                  nullptr);
  }

  // Checks a definition when it is first needed. `under_way_` is the chain of those that wait for it.
  std::optional<Type> define(State& state, const std::string& name, Span use, const syntax::Expression& text,
                             const Scope& scope, NodePtr& result, Type* type) {
    if (state == State::checking) {
      const auto begin = std::find(under_way_.begin(), under_way_.end(), name);
      std::string chain;
      for (auto at = begin; at != under_way_.end(); ++at) chain += *at + " -> ";
      report_.error(use, "JR-211", fmt::format("'{}' is defined by itself: {}{}", name, chain, name),
                    "break the circle");
      return std::nullopt;
    }
    if (state == State::untouched) {
      if (under_way_.size() >= deepest_chain) {
        report_.error(use, "JR-211",
                      fmt::format("definitions rest on each other more than {} deep here", deepest_chain));
        return std::nullopt;
      }
      state = State::checking;
      under_way_.push_back(name);
      NodePtr node = check_expression(definitions_, text, scope, diagnostics_);
      under_way_.pop_back();
      if (node && node->op == Op::literal && node->literal.is_null()) {
        report_.error(text.span, "JR-301", "null alone has no type", "give it one: if false then 0");
        node = nullptr;
      }
      state = node ? State::good : State::bad;
      result = std::move(node);
      if (result && type != nullptr) *type = result->type;
    }
    return state == State::good ? std::optional(result->type) : std::nullopt;
  }

  static constexpr std::size_t deepest_chain = 200;

  const syntax::Model& text_;
  Diagnostics& diagnostics_;
  CheckedModel model_;
  Reporter report_;
  Definitions definitions_;
  std::map<std::string, Span> names_;
  std::vector<std::vector<State>> column_states_;
  std::vector<State> measure_states_;
  std::vector<std::string> under_way_;
};

}  // namespace

CheckedModel check_model(const syntax::Model& model, Sources sources, Diagnostics& diagnostics) {
  return ModelChecker(model, std::move(sources), diagnostics).check();
}

Query check_query(const CheckedModel& model, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics) {
  const Definitions definitions{
      model, [&](ColumnId id, Span) { return std::optional(model.column(id).type); },
      [&](MeasureIndex m, Span) { return std::optional(model.measures[m].expression->type); }};
  return QueryChecker(model, definitions, diagnostics).check(query, further_where);
}

}  // namespace juniper::language
