// Sets of rows, the aggregates over them, and `let`.
#include <algorithm>

#include "base/calendar.h"
#include "language/expression_checker.h"
#include "language/operations.h"
#include "language/traverse.h"

namespace juniper::language {

using syntax::Expression;
using syntax::Form;
using syntax::RowsForm;

RowInScope ExpressionChecker::row_of(const RowSetPtr& set) {
  RowInScope row{set->variable, set->row_name, set->table, set, {}};
  if (set->via) row.roles.push_back(*set->via);
  return row;
}

// The scope in which expressions over the rows of a set stand.
Scope ExpressionChecker::scope_with(const RowSetPtr& set) const {
  Scope scope = scope_;
  scope.kind = ScopeKind::row;
  scope.in_row = true;
  scope.aggregates = true;
  scope.rows.push_back(row_of(set));
  return scope;
}

RowSetPtr ExpressionChecker::rows(const syntax::Rows& r, const std::string& row_name) {
  const auto with_input = [&](const auto& step) -> RowSetPtr {
    RowSetPtr input = rows(*r.input, row_name);
    return input ? step(std::move(input)) : nullptr;
  };
  switch (r.form) {
    case RowsForm::named:
      return named_rows(r.name, r.span, row_name);
    case RowsForm::distinct:
      return distinct(r, row_name);
    case RowsForm::days:
      return days(r);
    case RowsForm::grouped:
      return grouped(r, row_name);
    case RowsForm::unite:
    case RowsForm::except:
    case RowsForm::intersect:
      return combined(r, row_name);
    case RowsForm::linked:
      return with_input([&](RowSetPtr input) { return linked(std::move(input), r.name); });
    case RowsForm::routed:
      return with_input([&](RowSetPtr input) { return routed(std::move(input), r.name); });
    case RowsForm::across:
      return with_input([&](RowSetPtr input) { return dropping(std::move(input), r.across); });
    case RowsForm::filtered:
      return with_input([&](RowSetPtr input) { return filtered(std::move(input), *r.condition, r.span); });
    case RowsForm::extended:
      return with_input([&](RowSetPtr input) { return extended(r, std::move(input)); });
    case RowsForm::sorted:
      return with_input([&](RowSetPtr input) { return sorted(r, std::move(input)); });
    case RowsForm::top:
      return with_input([&](RowSetPtr input) { return top(r, std::move(input)); });
  }
  return nullptr;
}

RowSetPtr ExpressionChecker::named_rows(const syntax::Name& name, Span span, const std::string& row_name) {
  if (!row_name.empty() && (model_.find_table(row_name) || find_row(row_name) != nullptr)) {
    return error(span, "JR-203", fmt::format("the row's name '{}' is taken already", row_name), "give it another");
  }
  auto set = std::make_shared<RowSet>();
  const auto local = std::find_if(scope_.names.rbegin(), scope_.names.rend(),
                                  [&](const NameInScope& n) { return n.name == name.text; });
  if (local != scope_.names.rend()) {
    if (!local->rows) {
      return error(name.span, "JR-201", fmt::format("'{}' is one value, and a set of rows was expected", name.text));
    }
    *set = *local->rows;  // its shape, and what narrowing to its rows means
    set->kind = RowsKind::named;
    set->name = local->variable;
    set->input = nullptr;
    set->other = nullptr;
    set->condition = nullptr;
    set->values.clear();
    set->results.clear();
  } else if (name.text == "rows" && scope_.members) {
    *set = *scope_.members;
    set->kind = RowsKind::members;
    set->group = scope_.group;
  } else if (const auto table = model_.find_table(name.text)) {
    set->table = table;
  } else {
    if (is_disabled(name.span, DefinitionKind::calculated_table, name.text)) return nullptr;
    std::vector<std::string> names;
    for (const Table& t : model_.tables) names.push_back(t.name);
    for (const NameInScope& n : scope_.names) names.push_back(n.name);
    return error(name.span, "JR-201", fmt::format("there is no table '{}'", name.text),
                 name.text == "rows" ? "`rows` are those of the group at hand: group … by … with n = count(rows)"
                                     : base::did_you_mean(name.text, names));
  }
  set->variable = definitions_.fresh();
  set->row_name = row_name;
  set->span = span;
  return set;
}

// --- what is seen of a table ----------------------------------------------------------------------------------------

namespace {

std::shared_ptr<RowSet> copy_of(const RowSetPtr& input) {
  return std::make_shared<RowSet>(*input);
}

// A step that passes the rows of its input on.
std::shared_ptr<RowSet> step(RowsKind kind, const RowSetPtr& input, Span span) {
  auto set = copy_of(input);
  set->kind = kind;
  set->span = span;
  set->input = input;
  set->other = nullptr;
  set->condition = nullptr;
  set->values.clear();
  set->results.clear();
  set->descending.clear();
  set->count = 0;
  return set;
}

constexpr std::string_view seen_of_a_table = "`of`, `via` and `across` say what is seen of a table";

}  // namespace

RowSetPtr ExpressionChecker::linked(RowSetPtr input, const syntax::Name& name) {
  if (input->kind != RowsKind::table) {
    return error(name.span, "JR-409", std::string(seen_of_a_table), "write them behind the table itself");
  }
  const RowInScope* row = find_row(name.text);
  if (row == nullptr) {
    return error(name.span, "JR-201", fmt::format("there is no row '{}' in scope", name.text),
                 "name the row of the loop around: for s in …");
  }
  if (row->set && !row->table && !row->set->not_narrowing.empty()) {
    return error(name.span, "JR-409", fmt::format("no rows belong to '{}': {}", name.text, row->set->not_narrowing),
                 "group by columns, and filter the rows of the group by columns");
  }
  auto set = copy_of(input);
  set->of = row->variable;
  set->span.end = name.span.end;
  return set;
}

RowSetPtr ExpressionChecker::routed(RowSetPtr input, const syntax::Name& name) {
  const auto role = find_role(name);
  if (!role) return nullptr;
  if (input->kind != RowsKind::table) {
    return error(name.span, "JR-409", std::string(seen_of_a_table), "write them behind the table itself");
  }
  if (model_.paths(*input->table, model_.links[*role].from.table).empty()) {
    return error(name.span, "JR-207",
                 fmt::format("{} does not lead over the link '{}'", model_.tables[*input->table].name, name.text));
  }
  auto set = copy_of(input);
  set->via = role;
  set->span.end = name.span.end;
  return set;
}

RowSetPtr ExpressionChecker::dropping(RowSetPtr input, const syntax::Across& text) {
  if (input->kind == RowsKind::distinct && input->input->kind == RowsKind::table) {
    // distinct(stations.region) across …: of the table that its columns name.
    const RowSetPtr table = dropping(input->input, text);
    if (!table) return nullptr;
    auto set = copy_of(input);
    set->input = table;
    return set;
  }
  if (input->kind != RowsKind::table) {
    return error(text.span, "JR-409", std::string(seen_of_a_table), "write them behind the table itself");
  }
  const auto dropped = across(text);
  if (!dropped) return nullptr;
  auto set = copy_of(input);
  set->across = dropped;
  set->span.end = text.span.end;
  return set;
}

// --- steps ----------------------------------------------------------------------------------------------------------

// The expression over columns of a slice, where it reads a row of `set`; null, and the reason, when there is none.
NodePtr ExpressionChecker::in_slice(const NodePtr& node, const RowSetPtr& set, std::string& problem) const {
  const CheckedModel::Roles roles = set->via ? CheckedModel::Roles{*set->via} : CheckedModel::Roles{};
  const auto replace = [&](const NodePtr& n) -> NodePtr {
    switch (form_of(n->op)) {
      case OpForm::column: {
        if (n->variable != set->variable) return nullptr;
        auto copy = std::make_shared<Node>(*n);
        copy->variable = slice_row;
        // Seen from its own table, so that it filters whatever leads there; along a path of its own choice, from here.
        const auto ways = model_.paths(n->column.start, n->column.column.table, roles);
        if (ways.size() == 1 && ways.front() == n->column.path) {
          copy->column = {n->column.column.table, {}, n->column.column};
        }
        return copy;
      }
      case OpForm::field: {
        if (n->variable != set->variable) return nullptr;
        const Field& field = set->fields[n->field];
        if (!field.key) problem = fmt::format("'{}' is computed, and no column", field.name);
        return field.key ? field.key : n;
      }
      case OpForm::aggregate:
      case OpForm::measure:
      case OpForm::modified:
      case OpForm::let:
        problem = fmt::format("`{}` is an aggregate, and no condition over columns", written(n->span));
        return n;
      case OpForm::literal:
      case OpForm::name:
      case OpForm::grouping:
      case OpForm::operation:
        return nullptr;
    }
    return nullptr;
  };
  NodePtr result = replaced(node, replace);
  return problem.empty() ? result : nullptr;
}

RowSetPtr ExpressionChecker::filtered(RowSetPtr input, const Expression& text, Span span) {
  const NodePtr condition = within(scope_with(input)).condition(text);
  if (!condition) return nullptr;
  auto set = step(RowsKind::filtered, input, span);
  set->condition = condition;
  if (set->not_narrowing.empty()) {
    if (NodePtr slice = in_slice(condition, input, set->not_narrowing)) split_conjunction(slice, set->made_by);
  }
  return set;
}

// Adds a column to a derived row, unless the row has one of that name.
bool ExpressionChecker::add_field(RowSet& set, Field field, const std::optional<syntax::Name>& name) {
  if (name) {
    field.name = name->text;
    field.span = name->span;
  }
  const bool taken =
      std::any_of(set.fields.begin(), set.fields.end(), [&](const Field& other) { return other.name == field.name; }) ||
      (set.table && model_.tables[*set.table].find(field.name));
  if (taken) {
    error(field.span, "JR-203", fmt::format("the row has a '{}' already", field.name),
          "give it another name: … as NAME");
    return false;
  }
  set.fields.push_back(std::move(field));
  return true;
}

RowSetPtr ExpressionChecker::extended(const syntax::Rows& r, RowSetPtr input) {
  auto set = step(RowsKind::extended, input, r.span);
  for (const auto& item : r.items) {
    const NodePtr value = within(scope_with(set)).check(*item.expression);
    if (!value) return nullptr;
    std::string computed;
    Field field{"", value->type, in_slice(value, set, computed), false, std::nullopt, item.expression->span};
    if (!add_field(*set, std::move(field), item.name)) return nullptr;
    set->values.push_back(value);
  }
  return set;
}

RowSetPtr ExpressionChecker::sorted(const syntax::Rows& r, RowSetPtr input) {
  auto set = step(RowsKind::sorted, input, r.span);
  for (const auto& key : r.keys) {
    const NodePtr value = within(scope_with(input)).check(*key.expression);
    if (!value) return nullptr;
    set->values.push_back(value);
    set->descending.push_back(key.descending);
  }
  return set;
}

RowSetPtr ExpressionChecker::top(const syntax::Rows& r, RowSetPtr input) {
  RowSetPtr ordered = sorted(r, std::move(input));
  if (!ordered) return nullptr;
  auto set = copy_of(ordered);
  set->kind = RowsKind::top;
  set->count = r.count;
  set->not_narrowing = "`top` chooses rows by their rank, and that is no condition over columns";
  if (!set->table) set->not_narrowing = set->input->not_narrowing;  // a group that was chosen is still that group
  return set;
}

// --- new rows -------------------------------------------------------------------------------------------------------

// Every day of years, or of the years of the earliest and the latest date in some columns.
RowSetPtr ExpressionChecker::days(const syntax::Rows& r) {
  auto set = std::make_shared<RowSet>();
  set->kind = RowsKind::days;
  set->variable = definitions_.fresh();
  set->span = r.span;
  set->not_narrowing = "its days are those of a calendar";
  set->fields.push_back({"day", {TypeKind::date, 0}, nullptr, true, std::nullopt, r.span});
  if (r.items[0].expression->form == Form::literal) {
    const auto day_of = [&](std::size_t i, unsigned month, unsigned day) {
      auto literal = std::make_shared<Node>();
      literal->type = {TypeKind::date, 0};
      literal->span = r.span;
      const auto year = static_cast<int>(r.items[i].expression->value.exact());
      literal->literal = Value::of(int128{base::days_from_civil(year, month, day)});
      return literal;
    };
    set->values = {day_of(0, 1, 1), day_of(1, 12, 31)};
    return set;
  }
  for (const bool is_last : {false, true}) {
    const auto call = [&](Function function, std::vector<NodePtr> children) {
      auto node = std::make_shared<Node>();
      node->op = Op::call;
      node->function = function;
      node->type = {TypeKind::date, 0};
      node->span = r.span;
      node->children = std::move(children);
      return node;
    };
    std::vector<NodePtr> ends;
    for (const auto& item : r.items) {
      NodePtr end = end_of_dates(*item.expression, is_last);
      if (!end) return nullptr;
      ends.push_back(end->type.kind == TypeKind::datetime ? call(Function::date, {end}) : end);
    }
    NodePtr end = ends[0];
    if (ends.size() > 1) end = call(is_last ? Function::greatest : Function::least, ends);
    auto unit = std::make_shared<Node>();
    unit->type = integer_type;
    unit->span = r.span;
    unit->literal = Value::of(static_cast<int128>(Unit::year));
    set->values.push_back(call(is_last ? Function::end_of : Function::start_of, {end, unit}));
  }
  return set;
}

// The earliest or the latest of a column's dates.
NodePtr ExpressionChecker::end_of_dates(const Expression& e, bool is_last) {
  if (e.path.parts.size() < 2) {
    return error(e.span, "JR-202", fmt::format("'{}' needs the table it belongs to", e.path.parts[0].text),
                 elsewhere(e.path.parts[0].text));
  }
  const auto ref = slice_column(e.path);
  if (!ref) return nullptr;
  auto rows = std::make_shared<RowSet>();
  rows->variable = definitions_.fresh();
  rows->table = ref->start;
  rows->span = e.span;
  NodePtr value = column_node(e, rows->variable, *ref);
  if (!value) return nullptr;
  if (value->type.kind != TypeKind::date && value->type.kind != TypeKind::datetime)
    return error(e.span, "JR-301", fmt::format("a calendar is made of dates, not of {}", to_string(value->type)));
  auto node = std::make_shared<Node>();
  node->op = Op::aggregate;
  node->aggregate = is_last ? Aggregate::max : Aggregate::min;
  node->type = value->type;
  node->span = e.span;
  node->rows = rows;
  node->children = {std::move(value)};
  return node;
}

RowSetPtr ExpressionChecker::distinct(const syntax::Rows& r, const std::string& row_name) {
  RowSetPtr input;
  if (r.input) {
    input = rows(*r.input, "");
  } else {
    // Without `for`: the table that all columns name.
    const syntax::Path& first = r.items.front().expression->path;
    for (const auto& item : r.items) {
      if (item.expression->path.parts.size() < 2 || item.expression->path.parts[0].text != first.parts[0].text) {
        return error(r.span, "JR-118", "distinct over columns of several tables needs the rows in which they occur",
                     "write: distinct(a.x, b.y for TABLE)");
      }
    }
    // Columns that a role leads to occur in the rows that it leads from.
    syntax::Name table = first.parts[0];
    const auto role = std::find_if(model_.links.begin(), model_.links.end(),
                                   [&](const Link& link) { return link.role == table.text; });
    if (role != model_.links.end()) table.text = model_.tables[role->from.table].name;
    input = named_rows(table, first.parts[0].span, "");
  }
  if (!input) return nullptr;
  auto set = std::make_shared<RowSet>();
  set->kind = RowsKind::distinct;
  set->variable = definitions_.fresh();
  set->row_name = row_name;
  set->span = r.span;
  set->input = input;
  set->made_by = input->made_by;
  set->not_narrowing = input->not_narrowing;
  Scope columns = scope_with(input);
  columns.rows = {row_of(input)};  // no other row has a say in what these columns are
  for (const auto& item : r.items) {
    const NodePtr value = within(columns).check(*item.expression);
    if (!value) return nullptr;
    const syntax::Name& last = item.expression->path.parts.back();
    Field field{last.text, value->type, in_slice(value, input, set->not_narrowing), true, std::nullopt, last.span};
    if (value->op == Op::column) field.column = value->column.column;
    if (!add_field(*set, std::move(field), item.name)) return nullptr;
    set->values.push_back(value);
  }
  return set;
}

RowSetPtr ExpressionChecker::grouped(const syntax::Rows& r, const std::string& row_name) {
  const RowSetPtr input = rows(*r.input, "");
  if (!input) return nullptr;
  auto set = std::make_shared<RowSet>();
  set->kind = RowsKind::grouped;
  set->variable = definitions_.fresh();
  set->row_name = row_name;
  set->span = r.span;
  set->input = input;
  set->made_by = input->made_by;
  set->not_narrowing = input->not_narrowing;
  for (const auto& item : r.items) {
    const NodePtr value = within(scope_with(input)).check(*item.expression);
    if (!value) return nullptr;
    Field field{"", value->type, in_slice(value, input, set->not_narrowing), true, std::nullopt, item.expression->span};
    if (value->op == Op::column) field.column = value->column.column;
    if (item.expression->form == Form::path) {
      field.name = item.expression->path.parts.back().text;
    } else if (!item.name) {
      return error(item.expression->span, "JR-110", "this key needs a name", "write: group … by (EXPRESSION as NAME)");
    }
    if (!add_field(*set, std::move(field), item.name)) return nullptr;
    set->values.push_back(value);
  }
  for (const auto& item : r.results) {
    Scope scope = scope_with(set);
    scope.members = input;
    scope.group = set->variable;
    const NodePtr value = within(scope).check(*item.expression);
    if (!value) return nullptr;
    if (!add_field(*set, {"", value->type, nullptr, false, std::nullopt, item.expression->span}, item.name))
      return nullptr;
    set->results.push_back(value);
  }
  return set;
}

RowSetPtr ExpressionChecker::combined(const syntax::Rows& r, const std::string& row_name) {
  const RowSetPtr a = rows(*r.input, row_name);
  const RowSetPtr b = rows(*r.other, row_name);
  if (!a || !b) return nullptr;
  const auto same_fields = [](const RowSet& x, const RowSet& y) {
    return std::equal(x.fields.begin(), x.fields.end(), y.fields.begin(), y.fields.end(),
                      [](const Field& p, const Field& q) { return p.name == q.name && p.type == q.type; });
  };
  if (a->table != b->table || !same_fields(*a, *b)) {
    return error(r.span, "JR-307", "the two sets of rows have different columns",
                 "give both the rows of one table, or the same columns by name and type");
  }
  if (r.form == RowsForm::unite && (a->via != b->via || a->of != b->of)) {
    return error(r.span, "JR-307", "the two sets of rows are seen through different slices, and a row may be of either",
                 "give both the same `of` and `via`, or aggregate each on its own");
  }
  auto set = std::make_shared<RowSet>();
  set->kind = r.form == RowsForm::unite ? RowsKind::unite
                                        : (r.form == RowsForm::except ? RowsKind::except : RowsKind::intersect);
  set->variable = definitions_.fresh();
  set->row_name = row_name;
  set->span = r.span;
  set->table = a->table;
  set->fields = a->fields;
  set->input = a;
  set->other = b;
  set->via = a->via;
  set->not_narrowing = "it is a row of two sets, and their conditions differ";
  // Rows of except and intersect are rows of the first set; those of a union may be of either.
  bool alike = a->not_narrowing.empty() && b->not_narrowing.empty() && a->made_by.empty() && b->made_by.empty() &&
               a->of == b->of && a->via == b->via && a->across.has_value() == b->across.has_value() &&
               (!a->across || a->across->span == b->across->span);
  for (std::size_t i = 0; i < a->fields.size() && alike; ++i) {
    const auto text = [&](const NodePtr& key) { return key ? canonical(model_, key) : std::string(); };
    alike = text(a->fields[i].key) == text(b->fields[i].key);
  }
  if (set->kind != RowsKind::unite) {
    set->not_narrowing = a->not_narrowing;
    set->made_by = a->made_by;
    set->of = a->of;
    set->across = a->across;
  } else if (alike) {
    set->not_narrowing.clear();
  }
  return set;
}

// --- aggregates -----------------------------------------------------------------------------------------------------

NodePtr ExpressionChecker::aggregate(const Expression& e) {
  if (!scope_.aggregates) {
    return error(e.span, "JR-405",
                 "an aggregate can't choose or group the rows of a query: `where` and `by` hold columns");
  }
  Scope outside = scope_;
  if (outside.kind == ScopeKind::slice) outside.kind = scope_.in_row ? ScopeKind::row : ScopeKind::measure;
  ExpressionChecker around = within(outside);
  const RowSetPtr set = around.rows(*e.rows, e.variable ? e.variable->text : "");
  if (!set) return nullptr;
  auto node = std::make_shared<Node>();
  node->op = Op::aggregate;
  node->span = e.span;
  node->rows = set;
  ExpressionChecker inside = within(scope_with(set));
  for (std::size_t i = 0; i < e.children.size(); ++i) {
    const bool fraction = e.word == "quantile" && i == 0;
    const bool separator = e.word == "list" && i == 1;
    NodePtr value = (e.word == "rank" && i == 0) || fraction || separator ? around.check(*e.children[i])
                                                                          : inside.check(*e.children[i]);
    if (!value) return nullptr;
    if (fraction || separator) {
      if (value->op != Op::literal || value->literal.is_null() ||
          (fraction ? !value->type.is_number() : value->type.kind != TypeKind::text)) {
        return error(e.children[i]->span, "JR-303",
                     fraction ? "the fraction of quantile is a number in the text" : "the separator is a text",
                     fraction ? "write quantile(0.9, x for ROWS)" : "write list(x, \", \" for ROWS)");
      }
      node->literal = value->literal;
      if (fraction) {
        const double p = value->type.kind == TypeKind::real ? value->literal.real()
                                                            : base::to_real(value->literal.exact(), value->type.scale);
        if (p < 0 || p > 1) return error(e.children[i]->span, "JR-303", "the fraction of quantile is between 0 and 1");
        node->literal = Value::of(p);
      }
      continue;
    }
    node->children.push_back(std::move(value));
  }
  if (!ordered(e, node, inside)) return nullptr;
  return typed_aggregate(e, node);
}

// The order that first and last need, list may have, and rank states.
bool ExpressionChecker::ordered(const Expression& e, const std::shared_ptr<Node>& node, ExpressionChecker& inside) {
  if (e.word == "rank") {
    node->descending = {e.descending};
    node->dense = e.dense;
    return true;
  }
  if (e.word != "first" && e.word != "last") return true;
  for (const auto& key : e.keys) {
    NodePtr value = inside.check(*key.expression);
    if (!value) return false;
    node->children.push_back(std::move(value));
    node->descending.push_back(key.descending);
  }
  if (!e.keys.empty()) return true;
  if (node->rows->kind != RowsKind::sorted && node->rows->kind != RowsKind::top) {
    error(e.word_span, "JR-303", fmt::format("{} needs an order", e.word),
          fmt::format("write {}(x by KEY for ROWS), or … for ROWS sorted by KEY", e.word));
    return false;
  }
  node->children.insert(node->children.end(), node->rows->values.begin(), node->rows->values.end());
  node->descending = node->rows->descending;
  return true;
}

NodePtr ExpressionChecker::typed_aggregate(const Expression& e, const std::shared_ptr<Node>& node) {
  if (node->children.empty()) {
    node->aggregate = e.word == "exists" ? Aggregate::exists : Aggregate::row_count;
    node->type = e.word == "exists" ? boolean_type : integer_type;
    return node;
  }
  const Type value = node->children[0]->type;
  const auto wrong = [&](std::string_view what, std::string_view fix) {
    return error(e.children.back()->span, "JR-301",
                 fmt::format("{} takes {}, and this is {}", e.word, what, described(*node->children[0])),
                 std::string(fix));
  };
  if (e.word == "count") {
    node->aggregate = e.distinct ? Aggregate::count_distinct : Aggregate::count;
    node->type = integer_type;
    return node;
  }
  if (e.word == "rank") {
    if (!unify(node->children, "the value of rank and those among which it stands are")) return nullptr;
    node->aggregate = Aggregate::rank;
    node->type = integer_type;
    return node;
  }
  static constexpr std::array<std::pair<std::string_view, Aggregate>, 4> of_any_type{
      {{"min", Aggregate::min}, {"max", Aggregate::max}, {"first", Aggregate::first}, {"last", Aggregate::last}}};
  for (const auto& [word, kind] : of_any_type) {
    if (e.word != word) continue;
    node->aggregate = kind;
    node->type = value;
    return node;
  }
  if (e.word == "any" || e.word == "every") {
    if (value.kind != TypeKind::boolean) return wrong("conditions", "write a comparison");
    node->aggregate = e.word == "any" ? Aggregate::any : Aggregate::every;
    node->type = boolean_type;
    return node;
  }
  if (e.word == "list") {
    if (value.kind != TypeKind::text) return wrong("texts", "");
    if (node->literal.is_null()) node->literal = Value::of(std::string(", "));
    node->aggregate = Aggregate::list;
    node->type = text_type;
    return node;
  }
  if (!value.is_number()) return wrong("numbers", "min, max, count and count(distinct …) take any type");
  if (e.word == "sum") {
    node->aggregate = Aggregate::sum;
    node->type = value;
    return node;
  }
  static constexpr std::array<std::pair<std::string_view, Aggregate>, 8> of_numbers{
      {{"avg", Aggregate::avg},
       {"product", Aggregate::product},
       {"median", Aggregate::median},
       {"quantile", Aggregate::quantile},
       {"stddev", Aggregate::stddev},
       {"variance", Aggregate::variance},
       {"stddev_pop", Aggregate::stddev_pop},
       {"variance_pop", Aggregate::variance_pop}}};
  const auto* const at =
      std::find_if(of_numbers.begin(), of_numbers.end(), [&](const auto& entry) { return entry.first == e.word; });
  node->aggregate = at->second;
  node->type = real_type;
  // A product of integers is exact; of decimals it would gain digits with every factor.
  if (at->second == Aggregate::product && value.kind == TypeKind::integer) {
    node->type = integer_type;
  } else if (at->second != Aggregate::avg) {
    node->children[0] = convert(node->children[0], real_type);
  }
  return node;
}

// only(c) and grouping(c), of a column of the slice.
NodePtr ExpressionChecker::only(const Expression& e) {
  if (!scope_.aggregates) {
    return error(e.span, "JR-405",
                 fmt::format("{} can't choose or group the rows of a query: `where` and `by` hold columns", e.word));
  }
  if (const QueryBy* key = e.word == "grouping" && e.children.size() == 1 && e.children[0]->form == Form::path
                               ? key_named(e.children[0]->path, scope_.grouping)
                               : nullptr) {
    auto node = std::make_shared<Node>();
    node->op = Op::grouping;
    node->type = integer_type;
    node->span = e.span;
    if (key->is_column()) {
      node->column = key->column();
    } else {
      node->key = key->expression;
    }
    return node;
  }
  if (e.children.size() != 1 || e.children[0]->form != Form::path || e.children[0]->path.parts.size() < 2) {
    return error(e.span, "JR-303", fmt::format("{} takes a column, written with its table", e.word),
                 fmt::format("write {}(stations.region)", e.word));
  }
  const auto ref = slice_column(e.children[0]->path);
  if (!ref) return nullptr;
  auto node = std::make_shared<Node>();
  node->span = e.span;
  if (e.word == "grouping") {
    node->op = Op::grouping;
    node->type = integer_type;
    node->column = *ref;
    return node;
  }
  auto set = std::make_shared<RowSet>();
  set->variable = definitions_.fresh();
  set->table = ref->start;
  set->span = e.span;
  NodePtr value = column_node(*e.children[0], set->variable, *ref);
  if (!value) return nullptr;
  node->op = Op::aggregate;
  node->aggregate = Aggregate::only;
  node->type = value->type;
  node->rows = set;
  node->children = {std::move(value)};
  return node;
}

// --- let ------------------------------------------------------------------------------------------------------------

// True if what a set of rows begins with is a table or a set, rather than a measure or another name.
bool ExpressionChecker::names_rows(const syntax::Rows& rows) const {
  const syntax::Rows* at = &rows;
  while (at->input) at = at->input.get();
  if (at->form != RowsForm::named) return true;
  const std::string& name = at->name.text;
  return model_.find_table(name) || (name == "rows" && scope_.members) ||
         std::any_of(scope_.names.begin(), scope_.names.end(),
                     [&](const NameInScope& n) { return n.name == name && n.rows; });
}

namespace {

// The body of a `let` of scalars with its values in the place of their names. Nothing where a name is not used, whose
// value would be lost, or where the result would be too large.
NodePtr written_out(const Node& let) {
  constexpr std::size_t most_nodes = 10'000;
  std::map<VariableId, std::size_t> sizes;
  std::set<VariableId> used;
  const auto size_of = [&](const NodePtr& node) {
    std::size_t size = 0;
    walk(node, [&](const Node& n) {
      const auto name = n.op == Op::name ? sizes.find(n.variable) : sizes.end();
      size += name == sizes.end() ? 1 : name->second;
      if (name != sizes.end()) used.insert(n.variable);
    });
    return size;
  };
  std::map<VariableId, NodePtr> values;
  const auto with_values = [&](const NodePtr& node) {
    return replaced(node, [&](const NodePtr& n) -> NodePtr {
      const auto value = n->op == Op::name ? values.find(n->variable) : values.end();
      return value == values.end() ? nullptr : value->second;
    });
  };
  for (const Let& item : let.lets) {
    const std::size_t size = size_of(item.value);
    if (size > most_nodes) return nullptr;
    sizes[item.name] = size;
    values[item.name] = with_values(item.value);
  }
  if (size_of(let.children[0]) > most_nodes || used.size() < let.lets.size()) return nullptr;
  auto body = std::make_shared<Node>(*with_values(let.children[0]));
  body->span = let.span;
  return body;
}

// Whether an expression reads the slice's own columns.
bool reads_slice(const NodePtr& node) {
  if (!node || node->op == Op::aggregate || node->op == Op::modified) return false;
  if (node->op == Op::column && node->variable == slice_row) return true;
  return std::any_of(node->children.begin(), node->children.end(), reads_slice) ||
         std::any_of(node->lets.begin(), node->lets.end(), [](const Let& let) { return reads_slice(let.value); });
}

// Whether an expression needs nothing but values of rows and names.
bool is_of_values(const NodePtr& node) {
  bool only = true;
  walk(node, [&](const Node& n) {
    const OpForm form = form_of(n.op);
    only = only && (form == OpForm::literal || form == OpForm::operation || form == OpForm::column ||
                    form == OpForm::field || form == OpForm::name);
  });
  return only;
}

}  // namespace

// Names of values of rows, and all names in what a condition or key says of the slice's columns, are written out: which
// columns it is about must be plain.
NodePtr ExpressionChecker::let(const Expression& e) {
  auto node = std::make_shared<Node>();
  node->op = Op::let;
  node->span = e.span;
  ExpressionChecker inner = within(scope_);
  for (const syntax::LetName& item : e.lets) {
    const std::string& name = item.name.text;
    const bool taken = model_.find_table(name) || model_.find_measure(name) || find_row(name) != nullptr ||
                       std::any_of(inner.scope_.names.begin(), inner.scope_.names.end(),
                                   [&](const NameInScope& n) { return n.name == name; }) ||
                       std::any_of(model_.parameters.begin(), model_.parameters.end(),
                                   [&](const Parameter& parameter) { return parameter.name == name; });
    if (taken) {
      return error(item.name.span, "JR-203", fmt::format("'{}' is named already", name),
                   "a name of `let` differs from all others that it could be mistaken for");
    }
    Let let{definitions_.fresh(), nullptr, nullptr, name};
    if (item.rows && (!item.expression || inner.names_rows(*item.rows))) {
      let.rows = inner.rows(*item.rows, "");
    } else {
      let.value = inner.check(*item.expression);
    }
    if (!let.rows && !let.value) return nullptr;
    if (let.value && is_null_literal(*let.value)) {
      return error(item.name.span, "JR-301", "null alone has no type", "give it one: if false then 0");
    }
    inner.scope_.names.push_back({name, let.name, let.value ? let.value->type : Type{}, let.rows});
    node->lets.push_back(std::move(let));
  }
  NodePtr body = inner.check(*e.children[0]);
  if (!body) return nullptr;
  node->type = body->type;
  node->children = {std::move(body)};
  const bool has_sets = std::any_of(node->lets.begin(), node->lets.end(), [](const Let& let) { return let.rows; });
  const bool is_plain =
      !has_sets && is_of_values(node->children[0]) &&
      std::all_of(node->lets.begin(), node->lets.end(), [](const Let& let) { return is_of_values(let.value); });
  const bool is_of_slice = scope_.kind == ScopeKind::slice && reads_slice(node);
  if (!is_of_slice && !is_plain) return node;
  if (NodePtr whole = has_sets ? nullptr : written_out(*node)) return whole;
  if (!is_of_slice) return node;
  return error(e.span, "JR-417",
               has_sets ? "what a condition or key says of columns can't name a set of rows"
                        : "in a condition or key each name of `let` is used, and what it all comes to is not too large",
               "name it outside: let (…) (MEASURE where …)");
}

}  // namespace juniper::language
