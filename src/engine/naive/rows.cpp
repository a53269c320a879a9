// Sets of rows, written out, by the naive evaluator.
#include <algorithm>

#include "engine/asked/result_shape.h"
#include "engine/naive/evaluator.h"

namespace juniper::engine::naive {

Scope Naive::inside(const Scope& scope, const Row& row) {
  Scope inner = scope;
  inner.rows[row.set->variable] = row;
  return inner;
}

bool Naive::in_order(const Row& a, const Row& b) {
  if (a.table) {
    if (const auto settling = data_.settling_column(*a.table)) {
      const auto& key = data_.column({*a.table, *settling});
      if (const int order = compare(key[a.row], key[b.row]); order != 0) return order < 0;
    }
    return a.row < b.row;
  }
  for (std::size_t f = 0; f < a.fields.size(); ++f) {
    if (const int order = compare(a.fields[f].value, b.fields[f].value); order != 0) return order < 0;
  }
  return false;
}

bool Naive::same(const Row& a, const Row& b) {
  if (a.table && a.row != b.row) return false;
  for (std::size_t f = 0; f < a.fields.size(); ++f) {
    if (compare(a.fields[f].value, b.fields[f].value) != 0) return false;
  }
  return true;
}

int Naive::directed(const Value& a, const Value& b, bool descending) {
  const int order = compare(a, b);
  return descending && !a.is_null() && !b.is_null() ? -order : order;
}

std::vector<Scope> Naive::row_scopes(const RowSetPtr& set) {
  std::vector<Scope> scopes;
  for (const Row& row : rows(set, {})) scopes.push_back(inside({}, row));
  return scopes;
}

std::vector<Row> Naive::rows(const RowSetPtr& set, const Scope& scope) {
  std::vector<Row> found = unsettled_rows(set, scope);
  settle(found);
  return found;
}

std::vector<Row> Naive::unsettled_rows(const RowSetPtr& set, const Scope& scope) {
  std::vector<Row> found = rows_by_kind(set, scope);
  for (Row& row : found) row.set = set;
  return found;
}

std::vector<Row> Naive::rows_by_kind(const RowSetPtr& set, const Scope& scope) {
  std::vector<Row> input;
  // What a filter leaves out need not be settled.
  if (set->input) input = set->kind == RowsKind::filtered ? unsettled_rows(set->input, scope) : rows(set->input, scope);
  switch (set->kind) {
    case RowsKind::table: {
      HeldSlice slice = set->of ? narrowed(scope.rows.at(*set->of), scope) : scope.slice;
      if (set->via) slice.roles = with_role(model_, slice.roles, *set->via);
      if (set->across) drop(slice, *set->across);
      std::vector<Row> found = candidates(*set->table, slice);
      for (Row& row : found) row.slice = slice;
      return found;
    }
    case RowsKind::members:
      return scope.rows.at(set->group).members;
    case RowsKind::named: {
      NamedRows& named = *scope.sets.at(set->name);
      if (!named.is_known) {
        try {
          named.rows = rows(named.set, *named.around);
        } catch (const RowsOverflow&) {
          named.rows = std::nullopt;
        }
        named.is_known = true;
      }
      if (!named.rows) throw RowsOverflow{};
      return *named.rows;
    }
    case RowsKind::filtered:
      std::erase_if(input, [&](const Row& row) {
        const Cell condition = value(set->condition, inside(scope, row));
        if (condition.overflow) throw RowsOverflow{};
        return !is_true(condition);
      });
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
    case RowsKind::days: {
      const Cell first = value(set->values[0], scope);
      const Cell last = value(set->values[1], scope);
      if (first.overflow || last.overflow) throw RowsOverflow{};
      if (first.value.is_null() || last.value.is_null()) return {};
      for (int128 day = first.value.exact(); day <= last.value.exact(); ++day) {
        Row& row = input.emplace_back();
        row.set = set;
        row.slice = scope.slice;
        row.fields.push_back({Value::of(day), false});
      }
      return input;
    }
    case RowsKind::distinct:
    case RowsKind::grouped:
      return groups(input, set, scope);
    case RowsKind::unite:
    case RowsKind::except:
    case RowsKind::intersect: {
      std::vector<Row> other = rows(set->other, scope);
      for (const std::vector<Row>* const all : {&input, &other}) {
        for (const Row& row : *all) {
          if (std::any_of(row.fields.begin(), row.fields.end(), [](const Cell& field) { return field.overflow; }))
            throw NoAnswer{key_error(model_, set->span)};
        }
      }
      return combined(std::move(input), std::move(other), set->kind);
    }
  }
  return input;
}

Value Naive::key_of(const NodePtr& key, const Scope& scope) {
  Cell cell = value(key, scope);
  if (cell.overflow) throw NoAnswer{key_error(model_, key->span)};
  return std::move(cell.value);
}

std::vector<std::vector<Value>> Naive::sort(std::vector<Row>& input, const RowSet& set, const Scope& scope) {
  std::vector<std::pair<std::vector<Value>, Row>> keyed;
  for (Row& row : input) {
    std::vector<Value> keys;
    for (const NodePtr& key : set.values) keys.push_back(key_of(key, inside(scope, row)));
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

std::vector<Row> Naive::top(std::vector<Row> input, const RowSet& set, const Scope& scope) {
  const auto keys = sort(input, set, scope);
  std::size_t count = std::min<std::size_t>(set.count, input.size());
  while (count > 0 && count < input.size() && compare(keys[count][0], keys[count - 1][0]) == 0) ++count;
  input.resize(count);
  return input;
}

std::vector<Row> Naive::groups(const std::vector<Row>& input, const RowSetPtr& set, const Scope& scope) {
  std::vector<Row> found;
  for (const Row& row : input) {
    Row group;
    group.set = set;
    group.slice = row.slice;
    for (const NodePtr& key : set->values) group.fields.push_back({key_of(key, inside(scope, row)), false});
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

std::vector<Row> Naive::combined(std::vector<Row> a, std::vector<Row> b, RowsKind kind) {
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

}  // namespace juniper::engine::naive
