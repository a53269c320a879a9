#include "sql/translate.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <vector>

#include "base/exact.h"
#include "base/failure.h"
#include "language/operations.h"
#include "language/slices.h"
#include "language/traverse.h"
#include "sql/dialect.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

// A table under an alias, and the joins that reading its rows has asked for so far.
struct From {
  std::string source;  // a table's quoted name, or a subquery in brackets
  std::string alias;
  std::map<std::vector<LinkIndex>, std::string> joins;  // aliases, by path
  std::vector<std::string> clauses;
};

struct HeldPredicate {
  Predicate predicate;  // of a filter: values from outside are Op::name, see `names`
  std::string value;    // of a key, or of a row's number
  std::map<VariableId, std::string> names;
  std::function<std::string(const std::string& day)> is_day;  // of days: whether a day is one of them
};

struct HeldSlice {
  std::vector<HeldPredicate> predicates;
  Roles roles;
};

// True for what can be infinite over reals that are not.
bool may_leave_finite(const Node& node) {
  if (node.type.kind != TypeKind::real) return false;
  if (node.op == Op::aggregate) {
    return node.aggregate == Aggregate::sum || node.aggregate == Aggregate::avg ||
           node.aggregate == Aggregate::product || node.aggregate == Aggregate::stddev ||
           node.aggregate == Aggregate::variance || node.aggregate == Aggregate::stddev_pop ||
           node.aggregate == Aggregate::variance_pop;
  }
  return node.op == Op::add || node.op == Op::subtract || node.op == Op::multiply || node.op == Op::divide ||
         (node.op == Op::call && (node.function == Function::exp || node.function == Function::power));
}

struct Scope;
struct RowsSql;

// What a row variable stands for in SQL.
struct RowSql {
  RowSetPtr set;
  std::optional<TableIndex> table;
  std::shared_ptr<From> from;       // where the table's columns are read
  std::vector<std::string> fields;  // expressions
  HeldSlice slice;
  std::shared_ptr<const Scope> around;  // of a group: where its rows were taken
};

struct Scope {
  HeldSlice slice;
  std::shared_ptr<std::map<MeasureIndex, std::string>> measures = {};  // as translated in this slice; null: none yet
  std::map<VariableId, RowSql> rows;
  std::map<VariableId, std::string> names;
  std::map<VariableId, std::pair<RowSetPtr, std::shared_ptr<const Scope>>> sets;
};

// A set of rows: FROM and WHERE, the row that stands there, and the order of the set.
struct RowsSql {
  RowSql row;
  std::shared_ptr<From> from;
  std::vector<std::string> where;
  std::vector<std::pair<std::string, bool>> order;  // expression, descending
};

class Translator {
  static constexpr std::size_t most_measure_bytes = std::size_t{4} << 20;

 public:
  Translator(const CheckedModel& model, const Dialect& dialect, std::int64_t today)
      : model_(model), dialect_(dialect), today_(today) {}

  // The tables that were read.
  std::vector<TableIndex> used() const { return {used_.begin(), used_.end()}; }

  // --- scalars ------------------------------------------------------------------------------------------------------

  std::string value(const NodePtr& node, const Scope& scope) {
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
        return dialect_.literal(Value::of(int128{is_grouped(node->column, scope.slice) ? 0 : 1}), node->type);
      case OpForm::operation: {
        std::vector<std::string> operands;
        for (const NodePtr& child : node->children) operands.push_back(value(child, scope));
        const std::string result = dialect_.operation(*node, operands, today_);
        return may_leave_finite(*node) ? dialect_.finite(result) : result;
      }
    }
    return "NULL";
  }

  // --- reading ------------------------------------------------------------------------------------------------------

  std::shared_ptr<From> table(TableIndex table) {
    auto from = std::make_shared<From>();
    from->source = named(table);
    from->alias = fmt::format("t{}", ++aliases_);
    return from;
  }

  std::string named(TableIndex table) {
    used_.insert(table);
    return dialect_.table(model_.tables[table]);
  }

  // The alias under which a path's end is joined.
  std::string joined_at(From& from, const std::vector<LinkIndex>& path) {
    if (path.empty()) return from.alias;
    if (const auto known = from.joins.find(path); known != from.joins.end()) return known->second;
    const std::string before = joined_at(from, {path.begin(), path.end() - 1});
    const Link& link = model_.links[path.back()];
    if (!link.broken.empty()) {
      throw base::Failure({model_.sources.diagnostic(Severity::error, "JR-706", link.span,
                                                     "this needs a link that is broken: " + link.broken)});
    }
    std::string alias = fmt::format("t{}", ++aliases_);
    std::vector<std::string> equal;
    for (std::size_t c = 0; c < link.from.columns.size(); ++c) {
      equal.push_back(fmt::format("{}.{} = {}.{}", alias,
                                  quoted_name(model_.tables[link.to.table].columns[link.to.columns[c]].name), before,
                                  quoted_name(model_.tables[link.from.table].columns[link.from.columns[c]].name)));
    }
    from.clauses.push_back(fmt::format("LEFT JOIN {} {} ON {}", named(link.to.table), alias, joined(equal, " AND ")));
    from.joins.emplace(path, alias);
    return alias;
  }

  std::string column(From& from, const ColumnRef& ref) {
    return joined_at(from, ref.path) + "." + quoted_name(model_.column(ref.column).name);
  }

  static std::string from_text(const From& from) {
    std::string out = from.source + " " + from.alias;
    for (const std::string& clause : from.clauses) out += " " + clause;
    return out;
  }

  static std::string where_text(const std::vector<std::string>& where) {
    return where.empty() ? "" : " WHERE " + joined(where, " AND ");
  }

  // --- slices -------------------------------------------------------------------------------------------------------

  // The conditions that a slice puts on the rows of a table.
  std::vector<std::string> allowed(TableIndex table, const std::shared_ptr<From>& from, const HeldSlice& slice) {
    std::vector<std::string> conditions;
    for (const HeldPredicate& held : slice.predicates) {
      if (reach(model_, held.predicate, table, slice.roles) != Reach::all) continue;
      switch (held.predicate.kind) {
        case PredicateKind::filter:
          conditions.push_back("(" + seen_from(held, table, from, slice.roles) + ")");
          break;
        case PredicateKind::key:
          conditions.push_back(
              dialect_.same("(" + seen_from(held, table, from, slice.roles) + ")", "(" + held.value + ")"));
          break;
        case PredicateKind::row: {
          const auto path = model_.paths(table, held.predicate.table, slice.roles).front();
          conditions.push_back(fmt::format("{}.\"row$\" = {}", joined_at(*from, path), held.value));
          break;
        }
        case PredicateKind::days: {
          const auto day = model_.rebase({held.predicate.table, {}, model_.calendar->day}, table, slice.roles).ref;
          conditions.push_back(held.is_day(column(*from, *day)));
          break;
        }
      }
    }
    return conditions;
  }

  HeldSlice filters(const Query& query) {
    HeldSlice slice;
    for (const NodePtr& condition : query.where) slice.predicates.push_back(filter(condition));
    return slice;
  }

  static HeldPredicate filter(const NodePtr& condition) {
    HeldPredicate held;
    held.predicate.expression = condition;
    held.predicate.span = condition->span;
    return held;
  }

 private:
  std::string seen_from(const HeldPredicate& held, TableIndex table, const std::shared_ptr<From>& from,
                        const Roles& roles) {
    Scope scope;
    scope.names = held.names;
    RowSql row;
    row.table = table;
    row.from = from;
    scope.rows.emplace(slice_row, std::move(row));
    const NodePtr seen = replaced(held.predicate.expression, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column || n->variable != slice_row) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->column = *model_.rebase(n->column, table, roles).ref;
      return copy;
    });
    return value(seen, scope);
  }

  static bool is_leaf(const Node& n) {
    return (n.op == Op::column && n.variable != slice_row) || n.op == Op::field || n.op == Op::name ||
           n.op == Op::measure || n.op == Op::modified || n.op == Op::let || n.op == Op::aggregate ||
           n.op == Op::grouping;
  }

  // A predicate with what it reads from outside of the slice written out as it is here.
  HeldPredicate captured(const Predicate& predicate, const Scope& scope) {
    HeldPredicate held;
    held.predicate = predicate;
    held.predicate.expression = replaced(predicate.expression, [&](const NodePtr& n) -> NodePtr {
      if (!is_leaf(*n)) return nullptr;
      auto name = std::make_shared<Node>();
      name->op = Op::name;
      name->type = n->type;
      name->span = n->span;
      name->variable = next_name_++;
      held.names[name->variable] = "(" + value(n, scope) + ")";
      return name;
    });
    return held;
  }

  std::string row_number(const RowSql& row) { return row.from->alias + ".\"row$\""; }

  HeldSlice narrowed(const RowSql& row, const Scope& scope) {
    HeldSlice slice = row.slice;
    std::size_t field = 0;
    for (const Predicate& predicate : narrowing(row.set, row.table.value_or(0))) {
      if (predicate.kind == PredicateKind::row) {
        HeldPredicate held;
        held.predicate = predicate;
        held.value = row_number(row);
        slice.predicates.push_back(std::move(held));
        continue;
      }
      HeldPredicate held = captured(predicate, scope);
      if (predicate.kind == PredicateKind::key) {
        while (!row.set->fields[field].identifies) ++field;
        held.value = row.fields[field++];
      }
      slice.predicates.push_back(std::move(held));
    }
    return slice;
  }

  void drop(HeldSlice& slice, const Across& across) const {
    std::erase_if(slice.predicates,
                  [&](const HeldPredicate& held) { return covered(model_, held.predicate, across) == Covered::all; });
  }

  HeldSlice modified(const Modifiers& m, const Scope& scope) {
    HeldSlice slice = m.of ? narrowed(scope.rows.at(*m.of), scope) : scope.slice;
    if (m.via) slice.roles = with_role(model_, slice.roles, *m.via);
    if (m.across) drop(slice, *m.across);
    if (m.during) move(slice, *m.during);
    for (const NodePtr& condition : m.where)
      slice.predicates.push_back(captured({PredicateKind::filter, condition, 0, condition->span, 0}, scope));
    return slice;
  }

  // --- periods ------------------------------------------------------------------------------------------------------

  void move(HeldSlice& slice, const During& during) {
    const TableIndex calendar = model_.calendar->day.table;
    const base::Unit unit = during.unit;
    const HeldSlice here = slice;
    const auto edge = [&](std::string_view word) {
      const auto from = table(calendar);
      const std::string day = column(*from, {calendar, {}, model_.calendar->day});
      const auto where = allowed(calendar, from, here);
      return fmt::format("(SELECT {}({}) FROM {}{})", word, day, from_text(*from), where_text(where));
    };
    HeldPredicate held;
    held.predicate = {PredicateKind::days, nullptr, calendar, during.span, 0};
    std::string first;
    std::string last;
    switch (during.period) {
      case Period::to_date:
        last = edge("MAX");
        first = dialect_.start_of(last, unit);
        break;
      case Period::whole:
        first = dialect_.start_of(edge("MAX"), unit);
        last = dialect_.end_of(edge("MAX"), unit);
        break;
      case Period::previous:
        last = "(" + dialect_.start_of(edge("MIN"), unit) + " - 1)";
        first = dialect_.start_of(last, unit);
        break;
      case Period::next:
        first = "(" + dialect_.end_of(edge("MAX"), unit) + " + 1)";
        last = dialect_.end_of(first, unit);
        break;
      case Period::trailing:
        last = edge("MAX");
        // What would begin before the year 1 begins with it.
        first = fmt::format("coalesce({} + 1, {})", dialect_.moved(last, std::to_string(-during.count), unit),
                            base::days_from_civil(base::first_year, 1, 1));
        break;
      case Period::shift:
        held.is_day = [this, here, calendar, count = during.count, unit](const std::string& day) {
          const auto from = table(calendar);
          const std::string own = column(*from, {calendar, {}, model_.calendar->day});
          auto where = allowed(calendar, from, here);
          where.push_back(dialect_.moved(own, std::to_string(count), unit) + " = " + day);
          return fmt::format("EXISTS (SELECT 1 FROM {}{})", from_text(*from), where_text(where));
        };
        break;
    }
    if (!held.is_day) {
      held.is_day = [first, last](const std::string& day) {
        return fmt::format("{} BETWEEN {} AND {}", day, first, last);
      };
    }
    std::erase_if(slice.predicates, [&](const HeldPredicate& other) {
      return replaced_by_during(model_, other.predicate) == Covered::all;
    });
    slice.predicates.push_back(std::move(held));
  }

  bool is_grouped(const ColumnRef& ref, const HeldSlice& slice) const {
    return std::any_of(slice.predicates.begin(), slice.predicates.end(), [&](const HeldPredicate& held) {
      return held.predicate.kind == PredicateKind::key && held.predicate.expression->op == Op::column &&
             held.predicate.expression->column == ref;
    });
  }

  // --- rows ---------------------------------------------------------------------------------------------------------

  static Scope inside(const Scope& scope, const RowSql& row) {
    Scope inner = scope;
    inner.rows.insert_or_assign(row.set->variable, row);
    return inner;
  }

  // What settles ties between rows: a table's key and then its order, or all fields.
  std::vector<std::string> row_order(const RowSql& row) {
    std::vector<std::string> order;
    if (!row.table) return row.fields;
    for (std::uint32_t c = 0; c < model_.tables[*row.table].columns.size(); ++c) {
      if (!model_.tables[*row.table].columns[c].key) continue;
      order.push_back(column(*row.from, {*row.table, {}, {*row.table, c}}));
      break;
    }
    order.push_back(row_number(row));
    return order;
  }

  RowsSql rows(const RowSetPtr& set, const Scope& scope) {
    RowsSql made = made_rows(set, scope);
    made.row.set = set;
    return made;
  }

  RowsSql made_rows(const RowSetPtr& set, const Scope& scope) {
    const auto input = [&] {
      RowsSql made = rows(set->input, scope);
      made.row.set = set;
      return made;
    };
    switch (set->kind) {
      case RowsKind::table: {
        RowsSql made;
        made.row.slice = set->of ? narrowed(scope.rows.at(*set->of), scope) : scope.slice;
        if (set->via) made.row.slice.roles = with_role(model_, made.row.slice.roles, *set->via);
        if (set->across) drop(made.row.slice, *set->across);
        made.from = table(*set->table);
        made.row.table = set->table;
        made.row.from = made.from;
        made.where = allowed(*set->table, made.from, made.row.slice);
        return made;
      }
      case RowsKind::members:
        return members(scope.rows.at(set->group));
      case RowsKind::named: {
        const auto& [named, around] = scope.sets.at(set->name);
        return rows(named, *around);
      }
      case RowsKind::distinct:
      case RowsKind::grouped:
        return groups(set, scope);
      case RowsKind::unite:
      case RowsKind::except:
      case RowsKind::intersect:
        return combined(set, scope);
      case RowsKind::filtered: {
        RowsSql made = input();
        made.where.push_back("(" + value(set->condition, inside(scope, made.row)) + ")");
        return made;
      }
      case RowsKind::extended: {
        RowsSql made = input();
        for (const NodePtr& item : set->values)
          made.row.fields.push_back("(" + value(item, inside(scope, made.row)) + ")");
        return made;
      }
      case RowsKind::sorted: {
        RowsSql made = input();
        for (std::size_t k = set->values.size(); k-- > 0;)
          made.order.insert(made.order.begin(), {value(set->values[k], inside(scope, made.row)), set->descending[k]});
        return made;
      }
      case RowsKind::top:
        return top(set, input(), scope);
    }
    return {};
  }

  // A row is among the first n when fewer than n come before it.
  RowsSql top(const RowSetPtr& set, RowsSql made, const Scope& scope) {
    RowsSql others = rows(set->input, scope);
    others.row.set = set;
    const std::string mine = value(set->values[0], inside(scope, made.row));
    const std::string other = value(set->values[0], inside(scope, others.row));
    auto where = others.where;
    where.push_back(fmt::format("(({}) {} ({}) OR (({}) IS NULL AND ({}) IS NOT NULL))", other,
                                set->descending[0] ? ">" : "<", mine, mine, other));
    made.where.push_back(
        fmt::format("(SELECT COUNT(*) FROM {}{}) < {}", from_text(*others.from), where_text(where), set->count));
    made.order.insert(made.order.begin(), {mine, set->descending[0]});
    return made;
  }

  RowsSql groups(const RowSetPtr& set, const Scope& scope) {
    const RowsSql input = rows(set->input, scope);
    std::vector<std::string> keys;
    for (std::size_t k = 0; k < set->values.size(); ++k)
      keys.push_back(fmt::format("{} AS f{}", value(set->values[k], inside(scope, input.row)), k));
    RowsSql made;
    made.from = std::make_shared<From>();
    made.from->source = fmt::format("(SELECT DISTINCT {} FROM {}{})", joined(keys, ", "), from_text(*input.from),
                                    where_text(input.where));
    made.from->alias = fmt::format("t{}", ++aliases_);
    made.row.slice = input.row.slice;
    made.row.set = set;
    made.row.from = made.from;
    made.row.around = std::make_shared<const Scope>(scope);
    for (std::size_t k = 0; k < keys.size(); ++k) made.row.fields.push_back(fmt::format("{}.f{}", made.from->alias, k));
    for (const NodePtr& result : set->results)
      made.row.fields.push_back("(" + value(result, inside(scope, made.row)) + ")");
    return made;
  }

  // The rows that a group was made of: those of its input with its keys.
  RowsSql members(const RowSql& group) {
    const RowSet* set = group.set.get();
    while (set->kind != RowsKind::grouped && set->kind != RowsKind::distinct) set = set->input.get();
    RowsSql made = rows(set->input, *group.around);
    const Scope inner = inside(*group.around, made.row);
    for (std::size_t k = 0; k < set->values.size(); ++k)
      made.where.push_back(dialect_.same("(" + value(set->values[k], inner) + ")", group.fields[k]));
    return made;
  }

  RowsSql combined(const RowSetPtr& set, const Scope& scope) {
    const RowsSql a = rows(set->input, scope);
    const RowsSql b = rows(set->other, scope);
    const auto select = [&](const RowsSql& part) {
      std::vector<std::string> columns;
      if (part.row.table) columns.push_back(row_number(part.row) + " AS \"row$\"");
      for (std::size_t f = 0; f < part.row.fields.size(); ++f)
        columns.push_back(fmt::format("{} AS f{}", part.row.fields[f], f));
      return fmt::format("SELECT {} FROM {}{}", joined(columns, ", "), from_text(*part.from), where_text(part.where));
    };
    const std::string_view word =
        set->kind == RowsKind::unite ? "UNION" : (set->kind == RowsKind::except ? "EXCEPT" : "INTERSECT");
    RowsSql made;
    made.from = std::make_shared<From>();
    made.from->source = fmt::format("({} {} {})", select(a), word, select(b));
    made.from->alias = fmt::format("t{}", ++aliases_);
    made.row.slice = a.row.slice;
    made.row.table = set->table;
    made.row.from = made.from;
    if (set->table) {
      // The table again, for its columns.
      auto again = table(*set->table);
      again->source = fmt::format("{} JOIN {}", made.from->source + " " + made.from->alias, named(*set->table));
      again->clauses.push_back(fmt::format("ON {0}.\"row$\" = {1}.\"row$\"", again->alias, made.from->alias));
      made.row.from = again;
      const std::string keys = made.from->alias;
      made.from = again;
      for (std::size_t f = 0; f < set->fields.size(); ++f) made.row.fields.push_back(fmt::format("{}.f{}", keys, f));
      return made;
    }
    for (std::size_t f = 0; f < set->fields.size(); ++f)
      made.row.fields.push_back(fmt::format("{}.f{}", made.from->alias, f));
    return made;
  }

  // --- aggregates ---------------------------------------------------------------------------------------------------

  // What is aggregated is always computed in a subquery of its own: an aggregate over nothing but outer columns would
  // else be taken for one of the query around.
  std::string aggregate(const Node& node, const Scope& scope) {
    RowsSql set = rows(node.rows, scope);
    const Scope inner = inside(scope, set.row);
    std::vector<std::string> x;
    for (std::size_t i = 0; i < node.children.size(); ++i) {
      const bool outside = node.aggregate == Aggregate::rank && i == 0;
      x.push_back(value(node.children[i], outside ? scope : inner));
    }
    if (node.aggregate == Aggregate::first || node.aggregate == Aggregate::last) return edge(node, set, x);
    if (node.aggregate == Aggregate::list) return list(node, set, x[0]);
    const std::string rows_text = fmt::format("FROM {}{}", from_text(*set.from), where_text(set.where));
    if (node.aggregate == Aggregate::exists) return fmt::format("EXISTS (SELECT 1 {})", rows_text);
    if (node.aggregate == Aggregate::row_count) return fmt::format("(SELECT COUNT(*) FROM (SELECT 1 {}) q)", rows_text);
    if (node.aggregate == Aggregate::rank) {
      return fmt::format(
          "(CASE WHEN ({0}) IS NOT NULL THEN 1 + (SELECT COUNT({1}x) FROM (SELECT {2} AS x {3}) q WHERE x {4} ({0})) "
          "END)",
          x[0], node.dense ? "DISTINCT " : "", x[1], rows_text, node.descending[0] ? ">" : "<");
    }
    const std::string result = dialect_.aggregate_of_x(node);
    return fmt::format("(SELECT {} FROM (SELECT {} AS x {}) q)",
                       may_leave_finite(node) ? dialect_.finite(result) : result, x[0], rows_text);
  }

  // The columns by which rows are ordered, as k0, k1, …
  struct Ordering {
    std::string columns;
    std::vector<std::string> terms;
    void add(const std::string& expression, std::string_view direction) {
      const std::string name = fmt::format("k{}", terms.size());
      columns += fmt::format(", {} AS {}", expression, name);
      terms.push_back(fmt::format("{} {}", name, direction));
    }
  };

  std::string edge(const Node& node, const RowsSql& set, const std::vector<std::string>& x) {
    const bool last = node.aggregate == Aggregate::last;
    Ordering order;
    std::vector<std::string> present;
    for (std::size_t k = 1; k < x.size(); ++k) {
      present.push_back(fmt::format("k{} IS NOT NULL", order.terms.size()));
      order.add(x[k], node.descending[k - 1] != last ? "DESC" : "ASC");
    }
    for (const std::string& tie : row_order(set.row)) order.add(tie, last ? "DESC NULLS FIRST" : "ASC NULLS LAST");
    return fmt::format("(SELECT x FROM (SELECT {} AS x{} FROM {}{}) q WHERE {} ORDER BY {} LIMIT 1)", x[0],
                       order.columns, from_text(*set.from), where_text(set.where), joined(present, " AND "),
                       joined(order.terms, ", "));
  }

  std::string list(const Node& node, const RowsSql& set, const std::string& x) {
    Ordering order;
    for (const auto& [key, descending] : set.order) order.add(key, descending ? "DESC NULLS LAST" : "ASC NULLS LAST");
    for (const std::string& tie : row_order(set.row)) order.add(tie, "ASC NULLS LAST");
    return dialect_.list(
        fmt::format("(SELECT {} AS x{} FROM {}{}) q", x, order.columns, from_text(*set.from), where_text(set.where)),
        text_literal(node.literal.text()), joined(order.terms, ", "));
  }

  const CheckedModel& model_;
  const Dialect& dialect_;
  std::int64_t today_;
  std::set<TableIndex> used_;
  int aliases_ = 0;
  VariableId next_name_ = 1U << 30;  // above those of any model
};

// One level of a query: its combinations of keys, and what is shown for each.
std::string level(Translator& translator, const CheckedModel& model, const Query& query, std::size_t number,
                  const std::vector<std::uint32_t>& kept) {
  std::vector<std::string> sources;
  for (const auto& [table, roles] : query.sources) {
    HeldSlice slice = translator.filters(query);
    slice.roles = roles;
    const auto from = translator.table(table);
    std::vector<std::string> keys;
    for (const std::uint32_t k : kept) {
      keys.push_back(
          fmt::format("{} AS k{}", translator.column(*from, *model.rebase(query.by[k].column, table, roles).ref), k));
    }
    const auto where = translator.allowed(table, from, slice);
    sources.push_back(fmt::format("SELECT DISTINCT {} FROM {}{}", joined(keys, ", "), Translator::from_text(*from),
                                  Translator::where_text(where)));
  }
  const std::string combinations = kept.empty() ? "(SELECT 1)" : "(" + joined(sources, " UNION ") + ")";
  Scope scope;
  scope.slice = translator.filters(query);
  for (const std::uint32_t k : kept) {
    auto column = std::make_shared<Node>();
    column->op = Op::column;
    column->column = query.by[k].column;
    HeldPredicate held;
    held.predicate = {PredicateKind::key, column, 0, query.by[k].span, 0};
    held.value = fmt::format("g.k{}", k);
    scope.slice.predicates.push_back(std::move(held));
  }
  std::vector<std::string> columns{fmt::format("{} AS \"level\"", number)};
  for (std::uint32_t k = 0; k < query.by.size(); ++k) {
    const bool keeps = std::find(kept.begin(), kept.end(), k) != kept.end();
    columns.push_back(fmt::format("{} AS {}", keeps ? fmt::format("g.k{}", k) : "NULL", quoted_name(query.by[k].name)));
  }
  for (const QueryShow& item : query.show)
    columns.push_back(fmt::format("{} AS {}", translator.value(item.expression, scope), quoted_name(item.name)));
  std::string having;
  if (number == 0 && query.having) having = fmt::format(" WHERE ({})", translator.value(query.having, scope));
  return fmt::format("SELECT {}\nFROM {} g{}", joined(columns, ",\n  "), combinations, having);
}

}  // namespace

std::string translate(const CheckedModel& model, const Query& query, std::int64_t today, const Dialect& dialect) {
  Translator translator(model, dialect, today);
  std::vector<std::uint32_t> all(query.by.size());
  for (std::uint32_t k = 0; k < all.size(); ++k) all[k] = k;
  std::vector<std::string> levels{level(translator, model, query, 0, all)};
  for (const auto& kept : query.totals) levels.push_back(level(translator, model, query, levels.size(), kept));
  std::vector<std::string> columns{"\"level\""};
  for (const QueryBy& key : query.by) {
    columns.push_back(dialect.shown(quoted_name(key.name), model.column(key.column.column).type));
  }
  for (const QueryShow& item : query.show)
    columns.push_back(dialect.shown(quoted_name(item.name), item.expression->type));
  std::string statement = "SELECT " + joined(columns, ", ") + " FROM (\n" + joined(levels, "\nUNION ALL\n") + "\n) r";
  // Rows without any number are left out, but for a total over everything.
  if (!query.by.empty() && !query.keep_empty) {
    std::vector<std::string> present;
    for (const QueryShow& item : query.show) present.push_back(quoted_name(item.name) + " IS NOT NULL");
    for (std::size_t t = 0; t < query.totals.size(); ++t) {
      if (query.totals[t].empty()) present.push_back(fmt::format("\"level\" = {}", t + 1));
    }
    statement += "\nWHERE " + joined(present, " OR ");
  }
  std::vector<std::string> order{"\"level\""};
  for (const QueryBy& key : query.by) order.push_back("r." + quoted_name(key.name) + " NULLS LAST");
  statement += "\nORDER BY " + joined(order, ", ") + "\n";
  return dialect.before(statement, model, translator.used()) + statement;
}

std::string translate_column(const CheckedModel& model, TableIndex table, const NodePtr& expression, std::int64_t today,
                             const Dialect& dialect) {
  Translator translator(model, dialect, today);
  Scope scope;
  RowSql row;
  row.table = table;
  row.from = translator.table(table);
  scope.rows.emplace(model.tables[table].row, row);
  const std::string value = translator.value(expression, scope);
  const std::string statement = fmt::format("SELECT {}.\"row$\", {} FROM {} ORDER BY 1\n", row.from->alias, value,
                                            Translator::from_text(*row.from));
  return dialect.before(statement, model, translator.used()) + statement;
}

}  // namespace juniper::sql_engine
