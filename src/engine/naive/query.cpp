// Queries and calculated columns by the naive evaluator: a slice for each combination of keys, and a value in each; then
// the order of the rows, the limit and the places of totals, as the language says them.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/exact.h"
#include "engine/asked/result_shape.h"
#include "engine/naive/evaluator.h"
#include "engine/naive/naive.h"

namespace juniper::engine {

namespace naive {

namespace {

class NaiveQuery {
 public:
  NaiveQuery(const CheckedModel& model, Data& data, Setting setting, const Query& query)
      : naive_(model, data, setting), model_(model), data_(data), query_(query) {}

  QueryResult run() {
    const auto begin = std::chrono::steady_clock::now();
    std::vector<Level> levels(1 + query_.totals.size());
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) levels[0].kept.push_back(k);
    for (std::size_t t = 0; t < query_.totals.size(); ++t) levels[t + 1].kept = query_.totals[t];
    std::vector<std::vector<std::uint32_t>> kept;
    for (Level& level : levels) {
      add_rows(level);
      sort(level);
      kept.push_back(level.kept);
    }
    if (query_.limit && levels[0].rows.size() > *query_.limit) levels[0].rows.resize(*query_.limit);
    QueryResult result = empty_result(model_, query_, kept);
    put_together(levels, result);
    result.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
    return result;
  }

 private:
  struct LevelRow {
    std::vector<Value> keys;  // one for each `by` column; null where the level does not keep it
    std::vector<Value> shown;
  };
  struct Level {
    std::vector<std::uint32_t> kept;
    std::vector<LevelRow> rows;
  };

  HeldSlice filters() const {
    HeldSlice slice;
    for (const NodePtr& condition : query_.where) {
      slice.predicates.push_back(held_filter(condition));
    }
    return slice;
  }

  void add_rows(Level& level) {
    std::vector<std::vector<Value>> combinations;
    if (level.kept.empty()) combinations.emplace_back(query_.by.size());
    for (const SeenTable& seen : query_.sources) {
      if (level.kept.empty()) break;
      HeldSlice slice = filters();
      slice.roles = seen.roles;
      slice.bridges = seen.bridges;
      // Each key is read from the table's own row, or from a bridge's that leads to where that leads.
      std::map<TableIndex, std::vector<std::uint32_t>> over;
      std::vector<std::uint32_t> own;
      for (const std::uint32_t k : level.kept) {
        const auto bridge =
            bridge_of(model_, {PredicateKind::key, query_.by[k].expression, 0, query_.by[k].span, 0}, seen);
        (bridge ? over[*bridge] : own).push_back(k);
      }
      for (const auto& row : naive_.allowed(seen.table, slice)) {
        std::vector<std::vector<Value>> of_row(1, std::vector<Value>(query_.by.size()));
        for (const std::uint32_t k : own) of_row[0][k] = key_of(row, query_.by[k], seen.table, seen.roles);
        for (const auto& [bridge, keys] : over) of_row = with_keys(of_row, row, seen, slice, bridge, keys);
        combinations.insert(combinations.end(), of_row.begin(), of_row.end());
      }
    }
    const auto before = [](const std::vector<Value>& a, const std::vector<Value>& b) {
      return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(),
                                          [](const Value& x, const Value& y) { return compare(x, y) < 0; });
    };
    std::sort(combinations.begin(), combinations.end(), before);
    combinations.erase(std::unique(combinations.begin(), combinations.end()), combinations.end());
    for (std::vector<Value>& keys : combinations) {
      data_.check();
      if (auto row = shown(keys, level.kept)) level.rows.push_back({std::move(keys), std::move(*row)});
    }
  }

  // Combinations of keys of a row, each with those of every row of a bridge that leads to where the row leads.
  std::vector<std::vector<Value>> with_keys(const std::vector<std::vector<Value>>& before, const Row& row,
                                            const SeenTable& seen, const HeldSlice& slice, TableIndex bridge,
                                            const std::vector<std::uint32_t>& keys) {
    const auto at = naive_.row_at(row, meeting(model_, seen.table, bridge, seen.roles).from_table);
    std::vector<std::vector<Value>> combinations;
    for (const Naive::BridgeRow& named : naive_.bridge_rows(seen.table, bridge, slice)) {
      if (named.met != at) continue;
      if (named.row.doubt) throw NoAnswer{*named.row.doubt};
      for (std::vector<Value> values : before) {
        for (const std::uint32_t k : keys) values[k] = key_of(named.row, query_.by[k], bridge, seen.roles);
        combinations.push_back(std::move(values));
      }
    }
    return combinations;
  }

  // A row's value of what the query groups by, which fits its type as a column's does.
  Value key_of(const Row& row, const QueryBy& by, TableIndex table, const Roles& roles) {
    const Cell cell = naive_.value(naive_.seen_from(by.expression, table, roles), naive_.scope_of(row));
    const bool exact = by.type().is_exact_number() && !cell.value.is_null();
    if (cell.overflow || (exact && !base::fits_int64(cell.value.exact()))) throw NoAnswer{key_error(model_, by.span)};
    return cell.value;
  }

  std::optional<std::vector<Value>> shown(const std::vector<Value>& keys, const std::vector<std::uint32_t>& kept) {
    Scope scope;
    scope.slice = filters();
    std::vector<Value> group;
    for (const std::uint32_t k : kept) {
      Held held;
      held.predicate = {PredicateKind::key, query_.by[k].expression, 0, query_.by[k].span, 0};
      held.key = keys[k];
      scope.values[query_.by[k].variable] = std::make_shared<NamedValue>(NamedValue{{}, {}, Cell{keys[k], false}});
      scope.slice.predicates.push_back(std::move(held));
      group.push_back(keys[k]);
    }
    std::vector<Value> row;
    bool any = false;
    for (const QueryShow& item : query_.show) {
      const Cell cell = naive_.value(item.expression, scope);
      const bool too_large = item.expression->type.kind == TypeKind::integer && !cell.value.is_null() &&
                             !base::fits_int64(cell.value.exact());
      if (cell.overflow || too_large) throw NoAnswer{overflow_error(model_, query_, item, kept, group)};
      any = any || !cell.value.is_null();
      row.push_back(cell.value);
    }
    if (!any && !query_.by.empty() && !kept.empty() && !query_.keep_empty) return std::nullopt;
    if (kept.size() == query_.by.size() && query_.having) {
      const Cell having = naive_.value(query_.having, scope);
      if (having.overflow) throw NoAnswer{having_error(model_, query_, kept, group)};
      if (having.value.is_null() || having.value.exact() == 0) return std::nullopt;
    }
    return row;
  }

  // --- order --------------------------------------------------------------------------------------------------------

  // Negative where a key stands before another one: by the smallest value, beside each, of the column that theirs is
  // sorted by; then by themselves. Nulls come last.
  int in_order(std::uint32_t k, const Value& a, const Value& b) {
    if (!query_.by[k].is_column()) return compare(a, b);
    const ColumnId id = query_.by[k].column().column;
    if (const auto& by = model_.column(id).sorted_by) {
      const int order = compare(smallest_beside(id, {id.table, *by}, a), smallest_beside(id, {id.table, *by}, b));
      if (order != 0) return order;
    }
    return compare(a, b);
  }

  Value smallest_beside(ColumnId id, ColumnId beside, const Value& key) {
    const std::vector<Value>& keys = data_.column(id);
    const std::vector<Value>& values = data_.column(beside);
    Value smallest;
    for (std::size_t row = 0; row < keys.size(); ++row) {
      if (compare(keys[row], key) == 0 && compare(values[row], smallest) < 0) smallest = values[row];
    }
    return smallest;
  }

  void sort(Level& level) {
    std::stable_sort(level.rows.begin(), level.rows.end(), [&](const LevelRow& a, const LevelRow& b) {
      for (const QuerySort& item : query_.sort) {
        const bool is_key = item.column < query_.by.size();
        const std::size_t place = is_key ? item.column : item.column - query_.by.size();
        const Value& x = is_key ? a.keys[place] : a.shown[place];
        const Value& y = is_key ? b.keys[place] : b.shown[place];
        int order = is_key ? in_order(item.column, x, y) : compare(x, y);
        if (item.descending && !x.is_null() && !y.is_null()) order = -order;
        if (order != 0) return order < 0;
      }
      for (const std::uint32_t k : level.kept) {
        if (const int order = in_order(k, a.keys[k], b.keys[k]); order != 0) return order < 0;
      }
      return false;
    });
  }

  // Totals stand behind the last row that they sum up where the rows of each of their level stand together, the finer
  // ones first; else behind all rows.
  void put_together(const std::vector<Level>& levels, QueryResult& result) const {
    const std::vector<LevelRow>& detail = levels[0].rows;
    const auto is_of = [](const Level& level, const LevelRow& total, const LevelRow& row) {
      return std::all_of(level.kept.begin(), level.kept.end(),
                         [&](std::uint32_t k) { return compare(total.keys[k], row.keys[k]) == 0; });
    };
    // Behind how many rows of the detail each level's rows come.
    std::vector<std::vector<std::size_t>> behind(levels.size());
    for (std::size_t l = 1; l < levels.size(); ++l) {
      bool together = !levels[l].kept.empty();
      for (std::size_t i = 0; i < detail.size(); ++i) {
        for (std::size_t j = 0; j + 1 < i; ++j) {
          if (is_of(levels[l], detail[i], detail[j]) && !is_of(levels[l], detail[i], detail[i - 1])) together = false;
        }
      }
      for (const LevelRow& total : levels[l].rows) {
        std::size_t after = detail.size();
        for (std::size_t i = 0; i < detail.size() && together; ++i) {
          if (is_of(levels[l], total, detail[i])) after = i + 1;
        }
        const bool has_rows = after < detail.size() || (after > 0 && is_of(levels[l], total, detail[after - 1]));
        behind[l].push_back(together && has_rows ? after : detail.size() + 1);
      }
    }
    std::vector<std::size_t> by_size;
    for (std::size_t l = 1; l < levels.size(); ++l) by_size.push_back(l);
    std::stable_sort(by_size.begin(), by_size.end(),
                     [&](std::size_t a, std::size_t b) { return levels[a].kept.size() > levels[b].kept.size(); });
    const auto append = [&](std::size_t level, const LevelRow& row) {
      ResultRow& added = result.rows.emplace_back();
      added.level = static_cast<std::uint32_t>(level);
      added.cells = row.keys;
      added.cells.insert(added.cells.end(), row.shown.begin(), row.shown.end());
    };
    for (std::size_t place = 0; place <= detail.size() + 1; ++place) {
      if (place > 0 && place <= detail.size()) append(0, detail[place - 1]);
      for (const std::size_t l : by_size) {
        for (std::size_t r = 0; r < levels[l].rows.size(); ++r) {
          if (behind[l][r] == place) append(l, levels[l].rows[r]);
        }
      }
    }
  }

  Naive naive_;
  const CheckedModel& model_;
  Data& data_;
  const Query& query_;
};

}  // namespace

}  // namespace naive

Result<QueryResult> run_query_naively(const language::CheckedModel& model, naive::Data& data, Setting setting,
                                      const language::Query& query) {
  try {
    return naive::NaiveQuery(model, data, setting, query).run();
  } catch (const naive::NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<std::vector<Value>> evaluate_rows_naively(const language::CheckedModel& model, naive::Data& data,
                                                 Setting setting, language::TableIndex table,
                                                 const language::NodePtr& node) {
  try {
    naive::Naive evaluator(model, data, setting);
    std::vector<Value> values;
    for (std::uint64_t i = 0; i < data.rows(table); ++i) {
      const naive::Cell cell = evaluator.value(node, evaluator.row_scope(table, i, model.tables[table].row));
      const bool too_large =
          node->type.is_exact_number() && !cell.value.is_null() && !base::fits_int64(cell.value.exact());
      if (cell.overflow || too_large) {
        throw naive::NoAnswer{{model.sources.diagnostic(Severity::error, "JR-704", node->span,
                                                        fmt::format("this does not fit its type in row {}", i + 1))}};
      }
      values.push_back(cell.value);
    }
    return values;
  } catch (const naive::NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<std::vector<std::vector<Value>>> evaluate_table_naively(const language::CheckedModel& model, naive::Data& data,
                                                               Setting setting, language::TableIndex table) {
  try {
    naive::Naive evaluator(model, data, setting);
    const language::Table& declared = model.tables[table];
    std::vector<std::vector<Value>> columns(declared.columns.size());
    for (const naive::Scope& scope : evaluator.row_scopes(declared.rows)) {
      for (std::size_t c = 0; c < columns.size(); ++c) {
        const language::Column& column = declared.columns[c];
        if (!column.from_row) continue;
        const naive::Cell cell = evaluator.value(column.from_row, scope);
        const bool too_large =
            column.type.is_exact_number() && !cell.value.is_null() && !base::fits_int64(cell.value.exact());
        if (cell.overflow || too_large) {
          throw naive::NoAnswer{{model.sources.diagnostic(Severity::error, "JR-704", column.name_span,
                                                          fmt::format("'{}' does not fit its type", column.name))}};
        }
        columns[c].push_back(cell.value);
      }
    }
    return columns;
  } catch (const naive::NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

}  // namespace juniper::engine
