#include "engine/naive.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/multiprecision/cpp_int.hpp>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

#include "base/calendar.h"
#include "base/exact.h"
#include "engine/arrange.h"
#include "engine/naive_scalar.h"
#include "language/check.h"
#include "language/slices.h"

namespace juniper::engine {

namespace {

using namespace language;
using Big = boost::multiprecision::cpp_int;

// Thrown where a question has no answer; caught at the end of this file.
struct NoAnswer {
  Diagnostics diagnostics;
};

// A predicate with what it compares with.
struct Held {
  Predicate predicate;          // a filter's expression reads nothing but the slice's columns
  Value key;                    // of a key
  std::uint64_t row = 0;        // of a row
  std::set<std::int64_t> days;  // of days
};

struct HeldSlice {
  std::vector<Held> predicates;
  Roles roles;
};

// A row of a set: of a table, with fields, or fields alone.
struct Row {
  std::optional<TableIndex> table;
  std::uint64_t row = 0;
  std::vector<Cell> fields;
  RowSetPtr set;  // null for a calculated column's row
  HeldSlice slice;
  std::vector<Row> members;  // of a group
};

// What the names around an expression stand for.
struct Scope {
  HeldSlice slice;
  std::map<VariableId, Row> rows;
  std::map<VariableId, Cell> values;
  std::map<VariableId, std::vector<Row>> sets;
};

Held held_filter(const NodePtr& condition) {
  Held held;
  held.predicate.expression = condition;
  held.predicate.span = condition->span;
  return held;
}

Big big(int128 value) {
  return Big(base::exact_text(value, 0));
}

class Naive {
 public:
  explicit Naive(const Source& source) : source_(source), model_(source.model) {}

  // --- expressions --------------------------------------------------------------------------------------------------

  Cell value(const NodePtr& node, const Scope& scope) {
    switch (node->op) {
      case Op::literal:
        return {node->literal, false};
      case Op::column:
        return read(scope.rows.at(node->variable), node->column, scope.rows.at(node->variable).slice.roles);
      case Op::field:
        return scope.rows.at(node->variable).fields[node->field];
      case Op::name:
        return scope.values.at(node->variable);
      case Op::measure: {
        Scope inner;
        inner.slice = scope.slice;
        return value(model_.measures[node->measure].expression, inner);
      }
      case Op::modified: {
        Scope inner = scope;
        inner.slice = modified(*node->modifiers, scope);
        return value(node->children[0], inner);
      }
      case Op::let: {
        Scope inner = scope;
        for (const Let& let : node->lets) {
          if (let.rows) {
            inner.sets[let.name] = rows(let.rows, inner);
          } else {
            inner.values[let.name] = value(let.value, inner);
          }
        }
        return value(node->children[0], inner);
      }
      case Op::aggregate:
        return aggregate(*node, scope);
      case Op::grouping:
        return number(is_grouped(node->column, scope.slice) ? 0 : 1);
      case Op::cases:
        for (std::size_t i = 0; i + 1 < node->children.size(); i += 2) {
          const Cell condition = value(node->children[i], scope);
          if (condition.overflow) return condition;
          if (is_true(condition)) return value(node->children[i + 1], scope);
        }
        return value(node->children.back(), scope);
      default: {
        std::vector<Cell> operands;
        for (const NodePtr& child : node->children) operands.push_back(value(child, scope));
        return apply_naively(*node, operands, source_.setting);
      }
    }
  }

  // --- slices -------------------------------------------------------------------------------------------------------

  // The rows of a table that a slice allows, in the order of their keys.
  std::vector<Row> allowed(TableIndex table, const HeldSlice& slice) {
    std::vector<Row> found;
    for (std::uint64_t i = 0; i < source_.rows(table); ++i) {
      Row row;
      row.table = table;
      row.row = i;
      if (std::all_of(slice.predicates.begin(), slice.predicates.end(),
                      [&](const Held& held) { return holds(held, row, slice.roles); }))
        found.push_back(std::move(row));
    }
    std::stable_sort(found.begin(), found.end(), [&](const Row& a, const Row& b) { return in_order(a, b); });
    return found;
  }

  static HeldSlice with(HeldSlice slice, Held held) {
    slice.predicates.push_back(std::move(held));
    return slice;
  }

  const CheckedModel& model() const { return model_; }

  // The values of a table's columns as seen from one of its rows.
  Cell read(const Row& row, const ColumnRef& ref, const Roles& roles) {
    std::uint64_t at = row.row;
    for (const LinkIndex link : routed(model_, ref, roles).path) {
      const store::StoredLink& stored = source_.link(link);
      at = stored.rows.at(at);
      if (at == stored.no_row) return {};
    }
    return {column(ref.column)[at], false};
  }

  Scope row_scope(TableIndex table, std::uint64_t row, VariableId variable) {
    Scope scope;
    Row here;
    here.table = table;
    here.row = row;
    scope.rows[variable] = here;
    return scope;
  }

 private:
  static bool is_true(const Cell& cell) { return !cell.overflow && !cell.value.is_null() && cell.value.exact() != 0; }

  const std::vector<Value>& column(ColumnId id) {
    auto [at, fresh] = columns_.try_emplace(id);
    if (fresh) {
      const store::Column& stored = source_.column(id);
      for (std::uint64_t row = 0; row < stored.rows; ++row) at->second.push_back(stored.at(row));
    }
    return at->second;
  }

  bool holds(const Held& held, const Row& row, const Roles& roles) {
    const Predicate& predicate = held.predicate;
    if (reach(model_, predicate, *row.table, roles) != Reach::all) return true;
    switch (predicate.kind) {
      case PredicateKind::filter: {
        const Cell cell = value(seen_from(predicate.expression, *row.table, roles), scope_of(row));
        if (cell.overflow) {
          throw NoAnswer{{model_.sources.diagnostic(Severity::error, "JR-701", predicate.span,
                                                    "this condition overflows in some row",
                                                    "use fewer digits after the point, or a real")}};
        }
        return is_true(cell);
      }
      case PredicateKind::key: {
        const Cell cell = value(seen_from(predicate.expression, *row.table, roles), scope_of(row));
        return compare(cell.value, held.key) == 0;
      }
      case PredicateKind::row:
        return row_at(row, model_.paths(*row.table, predicate.table, roles).front()) == held.row;
      case PredicateKind::days: {
        const auto day = model_.rebase({predicate.table, {}, model_.calendar->day}, *row.table, roles).ref;
        const Cell cell = read(row, *day, {});
        return !cell.value.is_null() && held.days.contains(static_cast<std::int64_t>(cell.value.exact()));
      }
    }
    return true;
  }

  // The row that a path leads to; nothing where it ends before.
  std::optional<std::uint64_t> row_at(const Row& row, const std::vector<LinkIndex>& path) const {
    std::uint64_t at = row.row;
    for (const LinkIndex link : path) {
      const store::StoredLink& stored = source_.link(link);
      at = stored.rows.at(at);
      if (at == stored.no_row) return std::nullopt;
    }
    return at;
  }

  NodePtr seen_from(const NodePtr& node, TableIndex table, const Roles& roles) const {
    return language::replaced(node, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column || n->variable != slice_row) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->column = *model_.rebase(n->column, table, roles).ref;
      return copy;
    });
  }

  static Scope scope_of(const Row& row) {
    Scope scope;
    scope.rows[slice_row] = row;
    return scope;
  }

  // A condition with everything but the slice's own columns replaced by its value here.
  NodePtr closed(const NodePtr& condition, const Scope& scope) {
    return language::replaced(condition, [&](const NodePtr& n) -> NodePtr {
      const bool leaf = (n->op == Op::column && n->variable != slice_row) || n->op == Op::field || n->op == Op::name ||
                        n->op == Op::measure || n->op == Op::modified || n->op == Op::let || n->op == Op::aggregate ||
                        n->op == Op::grouping;
      if (!leaf) return nullptr;
      const Cell cell = value(n, scope);
      if (cell.overflow) {
        throw NoAnswer{
            {model_.sources.diagnostic(Severity::error, "JR-701", n->span, "this value does not fit its type",
                                       "use fewer digits after the point, or a real")}};
      }
      auto literal = std::make_shared<Node>();
      literal->type = n->type;
      literal->span = n->span;
      literal->literal = cell.value;
      return literal;
    });
  }

  HeldSlice narrowed(const Row& row, const Scope& scope) {
    HeldSlice slice = row.slice;
    const auto added = narrowing(row.set, row.table.value_or(0));
    std::size_t key = 0;
    for (const Predicate& predicate : added) {
      Held held;
      held.predicate = predicate;
      held.row = row.row;
      if (predicate.kind == PredicateKind::key) {
        while (!row.set->fields[key].identifies) ++key;
        held.key = row.fields[key++].value;
        held.predicate.expression = closed(predicate.expression, scope);
      } else if (predicate.kind == PredicateKind::filter) {
        held.predicate.expression = closed(predicate.expression, scope);
      }
      slice.predicates.push_back(std::move(held));
    }
    return slice;
  }

  void drop(HeldSlice& slice, const Across& across) const {
    std::erase_if(slice.predicates,
                  [&](const Held& held) { return covered(model_, held.predicate, across) == Covered::all; });
  }

  HeldSlice modified(const Modifiers& m, const Scope& scope) {
    HeldSlice slice = m.of ? narrowed(scope.rows.at(*m.of), scope) : scope.slice;
    if (m.via) slice.roles = with_role(model_, slice.roles, *m.via);
    if (m.across) drop(slice, *m.across);
    if (m.during) move(slice, *m.during);
    for (const NodePtr& condition : m.where) {
      slice.predicates.push_back(held_filter(closed(condition, scope)));
    }
    return slice;
  }

  void move(HeldSlice& slice, const During& during) {
    const Calendar& calendar = *model_.calendar;
    std::set<std::int64_t> present;
    for (const Row& row : allowed(calendar.day.table, slice))
      present.insert(static_cast<std::int64_t>(column(calendar.day)[row.row].exact()));
    std::set<std::int64_t> days;
    const auto add_range = [&](std::int64_t from, std::int64_t to) {
      for (std::int64_t day = from; day <= to; ++day) days.insert(day);
    };
    if (!present.empty()) {
      const std::int64_t first = *present.begin();
      const std::int64_t last = *present.rbegin();
      switch (during.period) {
        case Period::to_date:
          add_range(base::start_of(last, during.unit), last);
          break;
        case Period::whole:
          add_range(base::start_of(last, during.unit), base::end_of(last, during.unit));
          break;
        case Period::previous: {
          const std::int64_t end = base::start_of(first, during.unit) - 1;
          add_range(base::start_of(end, during.unit), end);
          break;
        }
        case Period::next: {
          const std::int64_t start = base::end_of(last, during.unit) + 1;
          add_range(start, base::end_of(start, during.unit));
          break;
        }
        case Period::shift:
          for (const std::int64_t day : present) {
            if (const auto moved = base::moved(day, during.count, during.unit)) days.insert(*moved);
          }
          break;
        case Period::trailing: {
          const auto before = base::moved(last, -during.count, during.unit);
          add_range(before ? *before + 1 : base::days_from_civil(1, 1, 1), last);
          break;
        }
      }
    }
    std::erase_if(slice.predicates,
                  [&](const Held& held) { return replaced_by_during(model_, held.predicate) == Covered::all; });
    Held held;
    held.predicate = {PredicateKind::days, nullptr, calendar.day.table, during.span, 0};
    held.days = std::move(days);
    slice.predicates.push_back(std::move(held));
  }

  bool is_grouped(const ColumnRef& ref, const HeldSlice& slice) const {
    return std::any_of(slice.predicates.begin(), slice.predicates.end(), [&](const Held& held) {
      return held.predicate.kind == PredicateKind::key && held.predicate.expression->op == Op::column &&
             held.predicate.expression->column == ref;
    });
  }

  // --- rows ---------------------------------------------------------------------------------------------------------

  static Scope inside(const Scope& scope, const Row& row) {
    Scope inner = scope;
    inner.rows[row.set->variable] = row;
    return inner;
  }

  // By a table's key and then its order, or by all fields; nulls last.
  bool in_order(const Row& a, const Row& b) {
    if (a.table) {
      if (const auto settling = source_.settling_column(*a.table)) {
        const auto& key = column({*a.table, *settling});
        if (const int order = compare(key[a.row], key[b.row]); order != 0) return order < 0;
      }
      return a.row < b.row;
    }
    for (std::size_t f = 0; f < a.fields.size(); ++f) {
      if (const int order = compare(a.fields[f].value, b.fields[f].value); order != 0) return order < 0;
    }
    return false;
  }

  static bool same(const Row& a, const Row& b) {
    if (a.table && a.row != b.row) return false;
    for (std::size_t f = 0; f < a.fields.size(); ++f) {
      if (compare(a.fields[f].value, b.fields[f].value) != 0) return false;
    }
    return true;
  }

  // Negative, zero or positive; nulls last whatever the direction.
  static int directed(const Value& a, const Value& b, bool descending) {
    const int order = compare(a, b);
    return descending && !a.is_null() && !b.is_null() ? -order : order;
  }

  std::vector<Row> rows(const RowSetPtr& set, const Scope& scope) {
    std::vector<Row> found = made(set, scope);
    for (Row& row : found) row.set = set;
    return found;
  }

  std::vector<Row> made(const RowSetPtr& set, const Scope& scope) {
    switch (set->kind) {
      case RowsKind::table: {
        HeldSlice slice = set->of ? narrowed(scope.rows.at(*set->of), scope) : scope.slice;
        if (set->via) slice.roles = with_role(model_, slice.roles, *set->via);
        if (set->across) drop(slice, *set->across);
        std::vector<Row> found = allowed(*set->table, slice);
        for (Row& row : found) row.slice = slice;
        return found;
      }
      case RowsKind::members:
        return scope.rows.at(set->group).members;
      case RowsKind::named:
        return scope.sets.at(set->name);
      default:
        break;
    }
    std::vector<Row> input = rows(set->input, scope);
    switch (set->kind) {
      case RowsKind::filtered:
        std::erase_if(input, [&](const Row& row) { return !is_true(value(set->condition, inside(scope, row))); });
        return input;
      case RowsKind::extended: {
        const std::size_t first = set->fields.size() - set->values.size();
        for (Row& row : input) {
          for (std::size_t i = 0; i < set->values.size(); ++i) {
            row.set = set;
            const Cell cell = value(set->values[i], inside(scope, row));
            row.fields.resize(first + i);
            row.fields.push_back(cell);
          }
        }
        return input;
      }
      case RowsKind::sorted:
        sort(input, *set, scope);
        return input;
      case RowsKind::top:
        return top(std::move(input), *set, scope);
      case RowsKind::distinct:
      case RowsKind::grouped:
        return groups(input, set, scope);
      default:
        return combined(std::move(input), rows(set->other, scope), set->kind);
    }
  }

  // The keys by which rows are sorted, beside each row.
  std::vector<std::vector<Value>> sort(std::vector<Row>& input, const RowSet& set, const Scope& scope) {
    std::vector<std::pair<std::vector<Value>, Row>> keyed;
    for (Row& row : input) {
      std::vector<Value> keys;
      for (const NodePtr& key : set.values) keys.push_back(value(key, inside(scope, row)).value);
      keyed.emplace_back(std::move(keys), std::move(row));
    }
    std::stable_sort(keyed.begin(), keyed.end(), [&](const auto& a, const auto& b) {
      for (std::size_t k = 0; k < set.values.size(); ++k) {
        if (const int order = directed(a.first[k], b.first[k], set.descending[k]); order != 0) return order < 0;
      }
      return false;
    });
    std::vector<std::vector<Value>> keys;
    input.clear();
    for (auto& [row_keys, row] : keyed) {
      keys.push_back(std::move(row_keys));
      input.push_back(std::move(row));
    }
    return keys;
  }

  std::vector<Row> top(std::vector<Row> input, const RowSet& set, const Scope& scope) {
    const auto keys = sort(input, set, scope);
    std::size_t count = std::min<std::size_t>(set.count, input.size());
    while (count > 0 && count < input.size() && compare(keys[count][0], keys[count - 1][0]) == 0) ++count;
    input.resize(count);
    return input;
  }

  std::vector<Row> groups(const std::vector<Row>& input, const RowSetPtr& set, const Scope& scope) {
    std::vector<Row> found;
    for (const Row& row : input) {
      Row group;
      group.set = set;
      group.slice = row.slice;
      for (const NodePtr& key : set->values) group.fields.push_back(value(key, inside(scope, row)));
      auto at = std::find_if(found.begin(), found.end(), [&](const Row& other) { return same(other, group); });
      if (at == found.end()) at = found.insert(found.end(), std::move(group));
      at->members.push_back(row);
    }
    std::stable_sort(found.begin(), found.end(), [&](const Row& a, const Row& b) { return in_order(a, b); });
    for (Row& group : found) {
      for (const NodePtr& result : set->results) group.fields.push_back(value(result, inside(scope, group)));
    }
    return found;
  }

  std::vector<Row> combined(std::vector<Row> a, std::vector<Row> b, RowsKind kind) {
    const auto holds_row = [](const std::vector<Row>& all, const Row& row) {
      return std::any_of(all.begin(), all.end(), [&](const Row& other) { return same(other, row); });
    };
    std::vector<Row> found;
    const auto add = [&](Row& row) {
      if (!holds_row(found, row)) found.push_back(std::move(row));
    };
    for (Row& row : a) {
      if (kind == RowsKind::unite || holds_row(b, row) == (kind == RowsKind::intersect)) add(row);
    }
    if (kind == RowsKind::unite) {
      for (Row& row : b) add(row);
    }
    std::stable_sort(found.begin(), found.end(), [&](const Row& x, const Row& y) { return in_order(x, y); });
    return found;
  }

  // --- aggregates ---------------------------------------------------------------------------------------------------

  Cell aggregate(const Node& node, const Scope& scope) {
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
    return of_values(node, std::move(values));
  }

  static Cell of_values(const Node& node, std::vector<Value> values) {
    switch (node.aggregate) {
      case Aggregate::count:
        return number(static_cast<std::int64_t>(values.size()));
      case Aggregate::count_distinct:
        std::sort(values.begin(), values.end(), [](const Value& a, const Value& b) { return compare(a, b) < 0; });
        return number(std::unique(values.begin(), values.end()) - values.begin());
      default:
        break;
    }
    if (values.empty()) return {};
    const auto less = [](const Value& a, const Value& b) { return compare(a, b) < 0; };
    switch (node.aggregate) {
      case Aggregate::min:
        return {*std::min_element(values.begin(), values.end(), less), false};
      case Aggregate::max:
        return {*std::max_element(values.begin(), values.end(), less), false};
      case Aggregate::any:
      case Aggregate::every: {
        const auto [low, high] = std::minmax_element(values.begin(), values.end(), less);
        return {node.aggregate == Aggregate::any ? *high : *low, false};
      }
      case Aggregate::list: {
        std::string list;
        for (const Value& text : values) list += (&text == values.data() ? "" : node.literal.text()) + text.text();
        return {Value::of(list), false};
      }
      default:
        return of_numbers(node, values);
    }
  }

  static Cell of_numbers(const Node& node, const std::vector<Value>& values) {
    const bool exact = values[0].kind() == Value::Kind::exact;
    if (exact) {
      Big total = node.aggregate == Aggregate::product ? 1 : 0;
      for (const Value& v : values) {
        total = node.aggregate == Aggregate::product ? Big(total * big(v.exact())) : Big(total + big(v.exact()));
      }
      if (node.aggregate == Aggregate::avg) {
        const Big divisor = Big(values.size()) * pow(Big(10), node.children[0]->type.scale);
        return {Value::of(static_cast<double>(boost::multiprecision::cpp_rational(total, divisor))), false};
      }
      static const Big most = (Big(1) << 127) - 1;
      const bool fits = node.type.kind == TypeKind::integer ? total >= std::numeric_limits<std::int64_t>::min() &&
                                                                  total <= std::numeric_limits<std::int64_t>::max()
                                                            : abs(total) <= most;
      if (!fits) return {Value(), true};
      const auto text = total.str();
      return {Value::of(*base::parse_exact(text, 0)), false};
    }
    std::vector<double> x;
    for (const Value& v : values) x.push_back(v.real());
    const auto count = static_cast<double>(x.size());
    double sum = 0;
    double product = 1;
    for (const double v : x) {
      sum += v;
      product *= v;
    }
    double squares = 0;
    for (const double v : x) squares += (v - sum / count) * (v - sum / count);
    const auto sample = [&](double result) { return x.size() < 2 ? Cell{} : finite(result); };
    switch (node.aggregate) {
      case Aggregate::sum:
        return finite(sum);
      case Aggregate::avg:
        return finite(sum / count);
      case Aggregate::product:
        return finite(product);
      case Aggregate::variance:
        return sample(squares / (count - 1));
      case Aggregate::stddev:
        return sample(std::sqrt(squares / (count - 1)));
      case Aggregate::variance_pop:
        return finite(squares / count);
      case Aggregate::stddev_pop:
        return finite(std::sqrt(squares / count));
      default:
        return finite(quantile(std::move(x), node.aggregate == Aggregate::median ? 0.5 : node.literal.real()));
    }
  }

  static Cell finite(double value) {
    if (!std::isfinite(value)) return {};
    return {Value::of(value == 0 ? 0.0 : value), false};
  }

  static double quantile(std::vector<double> x, double p) {
    std::sort(x.begin(), x.end());
    const double position = p * static_cast<double>(x.size() - 1);
    const auto low = static_cast<std::size_t>(position);
    const std::size_t high = std::min(low + 1, x.size() - 1);
    return x[low] + (x[high] - x[low]) * (position - static_cast<double>(low));
  }

  // first and last: among the rows whose keys are all values, by the keys, and by the order of the rows.
  Cell edge(const Node& node, const std::vector<Row>& all, const Scope& scope) {
    const Row* best = nullptr;
    std::vector<Value> best_keys;
    for (const Row& row : all) {
      std::vector<Value> keys;
      for (std::size_t k = 1; k < node.children.size(); ++k)
        keys.push_back(value(node.children[k], inside(scope, row)).value);
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

  Cell rank(const Node& node, const Scope& scope) {
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

  const Source& source_;
  const CheckedModel& model_;
  std::map<ColumnId, std::vector<Value>> columns_;
};

// --- queries --------------------------------------------------------------------------------------------------------

class NaiveQuery {
 public:
  NaiveQuery(const Source& source, const Query& query) : naive_(source), source_(source), query_(query) {}

  QueryResult run() {
    const auto begin = std::chrono::steady_clock::now();
    std::vector<ArrangedLevel> levels(1 + query_.totals.size());
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) levels[0].kept.push_back(k);
    for (std::size_t t = 0; t < query_.totals.size(); ++t) levels[t + 1].kept = query_.totals[t];
    for (ArrangedLevel& level : levels) add_rows(level);
    QueryResult result = Arrangement(source_, query_, levels[0]).result(std::move(levels));
    result.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
    return result;
  }

 private:
  HeldSlice filters() const {
    HeldSlice slice;
    for (const NodePtr& condition : query_.where) {
      slice.predicates.push_back(held_filter(condition));
    }
    return slice;
  }

  void add_rows(ArrangedLevel& level) {
    const std::vector<std::uint32_t>& kept = level.kept;
    std::vector<std::vector<Value>> combinations;
    if (kept.empty()) combinations.emplace_back(query_.by.size());
    for (const auto& [table, roles] : query_.sources) {
      if (kept.empty()) break;
      HeldSlice slice = filters();
      slice.roles = roles;
      for (const auto& row : naive_.allowed(table, slice)) {
        std::vector<Value> keys(query_.by.size());
        for (const std::uint32_t k : kept)
          keys[k] = naive_.read(row, *naive_.model().rebase(query_.by[k].column, table, roles).ref, {}).value;
        combinations.push_back(std::move(keys));
      }
    }
    const auto before = [](const std::vector<Value>& a, const std::vector<Value>& b) {
      return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(),
                                          [](const Value& x, const Value& y) { return compare(x, y) < 0; });
    };
    std::sort(combinations.begin(), combinations.end(), before);
    combinations.erase(std::unique(combinations.begin(), combinations.end()), combinations.end());
    std::vector<std::shared_ptr<Vector>> columns;
    for (const QueryShow& item : query_.show) {
      columns.push_back(std::make_shared<Vector>());
      const TypeKind kind = item.expression->type.kind;
      columns.back()->reset(kind == TypeKind::real ? Repr::real : (kind == TypeKind::text ? Repr::text : Repr::wide),
                            combinations.size());
    }
    std::vector<std::uint64_t> last_codes;
    for (const std::uint32_t k : kept) last_codes.push_back(source_.column(query_.by[k].column.column).null_code);
    level.layout = KeyLayout(last_codes);
    if (!level.layout.fits()) throw NoAnswer{too_wide_error(source_, query_)};
    level.keys = PackedKeys(level.layout.bits());
    const bool detail = kept.size() == query_.by.size();
    for (std::uint32_t i = 0; i < combinations.size(); ++i) {
      source_.check();
      const std::vector<Value>& keys = combinations[i];
      std::vector<std::uint64_t> codes;
      for (const std::uint32_t k : kept) codes.push_back(*source_.column(query_.by[k].column.column).code_of(keys[k]));
      PackedKey key = 0;
      for (std::size_t k = 0; k < kept.size(); ++k) key = level.layout.with(key, k, codes[k]);
      level.keys.push_back(key);
      const auto row = shown(keys, codes, kept, detail);
      if (!row) continue;
      level.rows.push_back(i);
      for (std::size_t c = 0; c < columns.size(); ++c) columns[c]->set(i, (*row)[c]);
    }
    level.shown.assign(columns.begin(), columns.end());
  }

  std::optional<std::vector<Value>> shown(const std::vector<Value>& keys, const std::vector<std::uint64_t>& codes,
                                          const std::vector<std::uint32_t>& kept, bool detail) {
    Scope scope;
    scope.slice = filters();
    for (const std::uint32_t k : kept) {
      auto column = std::make_shared<Node>();
      column->op = Op::column;
      column->column = query_.by[k].column;
      Held held;
      held.predicate = {PredicateKind::key, column, 0, query_.by[k].span, 0};
      held.key = keys[k];
      scope.slice.predicates.push_back(std::move(held));
    }
    std::vector<Value> row;
    bool any = false;
    for (const QueryShow& item : query_.show) {
      const Cell cell = naive_.value(item.expression, scope);
      const bool too_large = item.expression->type.kind == TypeKind::integer && !cell.value.is_null() &&
                             !base::fits_int64(cell.value.exact());
      if (cell.overflow || too_large) throw NoAnswer{overflow_error(source_, query_, item, kept, codes)};
      any = any || !cell.value.is_null();
      row.push_back(cell.value);
    }
    if (!any && !query_.by.empty() && !kept.empty() && !query_.keep_empty) return std::nullopt;
    if (detail && query_.having) {
      const Cell having = naive_.value(query_.having, scope);
      if (having.overflow || having.value.is_null() || having.value.exact() == 0) return std::nullopt;
    }
    return row;
  }

  Naive naive_;
  const Source& source_;
  const Query& query_;
};

}  // namespace

Result<QueryResult> run_query_naively(const Source& source, const Query& query) {
  try {
    return NaiveQuery(source, query).run();
  } catch (const NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<std::vector<Value>> evaluate_rows_naively(const Source& source, TableIndex table, const NodePtr& node) {
  try {
    Naive naive(source);
    std::vector<Value> values;
    for (std::uint64_t i = 0; i < source.rows(table); ++i) {
      const Cell cell = naive.value(node, naive.row_scope(table, i, source.model.tables[table].row));
      if (cell.overflow) {
        throw NoAnswer{{source.model.sources.diagnostic(Severity::error, "JR-704", node->span,
                                                        fmt::format("this does not fit its type in row {}", i + 1))}};
      }
      values.push_back(cell.value);
    }
    return values;
  } catch (const NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

}  // namespace juniper::engine
