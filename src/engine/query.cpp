#include "engine/query.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <chrono>
#include <numeric>
#include <set>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "engine/scan.h"
#include "language/check.h"
#include "language/lexer.h"

namespace juniper::engine {

namespace {

using language::ColumnRef;
using language::NodePtr;
using language::Op;
using language::Query;
using language::TableIndex;

constexpr GroupIndex no_group = 0xFFFFFFFF;

// A copy of a condition with its columns as seen from `table`.
NodePtr seen_from(const NodePtr& node, const language::CheckedModel& model, TableIndex table) {
  auto copy = std::make_shared<language::Node>(*node);
  if (copy->op == Op::column) copy->column = *model.rebase(copy->column, table).ref;
  for (NodePtr& child : copy->children) child = seen_from(child, model, table);
  return copy;
}

void collect_aggregates(const language::CheckedModel& model, const NodePtr& node, std::vector<NodePtr>& found,
                        std::set<std::string>& seen) {
  if (node->op == Op::measure) return collect_aggregates(model, model.measures[node->measure].expression, found, seen);
  if (node->op == Op::aggregate) {
    if (seen.insert(canonical(model, node)).second) found.push_back(node);
    return;
  }
  for (const NodePtr& child : node->children) collect_aggregates(model, child, found, seen);
}

// Codes of all `by` columns for one row of the result; those that a level does not keep are not looked at.
using Combination = std::vector<std::uint64_t>;

struct Detail {
  Combination codes;
  std::vector<Value> shown;
};

struct Level {
  std::vector<std::uint32_t> kept;  // indexes into query.by
  std::vector<Detail> rows;
};

class QueryRun {
 public:
  QueryRun(const Source& source, const Query& query, unsigned threads)
      : source_(source), model_(source.model), query_(query), threads_(threads) {
    std::set<std::string> seen;
    for (const auto& item : query.show) collect_aggregates(model_, item.expression, aggregates_, seen);
    std::set<TableIndex> tables;
    for (const NodePtr& aggregate : aggregates_) tables.insert(aggregate->rows.table);
    if (query.from) tables.insert(*query.from);
    tables_.assign(tables.begin(), tables.end());
  }

  Result<QueryResult> run() {
    const auto begin = std::chrono::steady_clock::now();
    std::vector<Level> levels(1 + query_.totals.size());
    levels[0].kept.resize(query_.by.size());
    std::iota(levels[0].kept.begin(), levels[0].kept.end(), 0U);
    for (std::size_t t = 0; t < query_.totals.size(); ++t) levels[t + 1].kept = query_.totals[t];
    std::vector<TableScan> scans;
    for (const TableIndex table : tables_) {
      auto scanned = scan_table(table, levels);
      if (!scanned) return tl::unexpected(scanned.error());
      scans.push_back(std::move(*scanned));
    }
    for (std::size_t l = 0; l < levels.size(); ++l) {
      if (const auto done = show(scans, l, levels[l]); !done) return tl::unexpected(done.error());
    }
    QueryResult result = describe(levels);
    arrange(levels, result);
    result.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
    return result;
  }

 private:
  // The groups of one table for one level.
  struct LevelGroups {
    std::vector<std::uint32_t> keys;  // indexes into query.by, those that the level keeps and that reach the table
    Groups groups;
    boost::unordered_flat_map<std::string, GroupIndex> index;  // by bytes of the codes
  };
  struct TableScan {
    bool gives_rows = false;
    std::vector<NodePtr> aggregates;
    std::vector<LevelGroups> levels;
  };

  tl::unexpected<Diagnostics> error(language::Span span, std::string code, std::string message,
                                    std::string suggestion) const {
    return tl::unexpected(Diagnostics{
        model_.sources.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion))});
  }

  bool leads_to_all_keys(TableIndex table) const {
    return std::all_of(query_.by.begin(), query_.by.end(),
                       [&](const language::QueryBy& key) { return model_.rebase(key.column, table).ref; });
  }
  bool gives_rows(TableIndex table) const { return query_.from ? *query_.from == table : leads_to_all_keys(table); }

  static std::string bytes_of(const Combination& codes, const std::vector<std::uint32_t>& keys) {
    std::string bytes(keys.size() * sizeof(std::uint64_t), '\0');
    for (std::size_t i = 0; i < keys.size(); ++i)
      std::memcpy(bytes.data() + i * sizeof(std::uint64_t), &codes[keys[i]], sizeof(std::uint64_t));
    return bytes;
  }

  // --- one pass over each table --------------------------------------------------------------------------------------

  Result<TableScan> scan_table(TableIndex table, const std::vector<Level>& levels) {
    TableScan made;
    made.gives_rows = gives_rows(table);
    ScanRequest request;
    request.table = table;
    std::vector<std::uint32_t> reaching;  // for each of request.keys, its index in query.by
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
      if (auto ref = model_.rebase(query_.by[k].column, table).ref) {
        reaching.push_back(k);
        request.keys.push_back(std::move(*ref));
      }
    }
    if (!layout_of(source_, request.keys).fits()) {
      return error(query_.by[0].span, "JR-703", "these `by` columns have too many values to be grouped by together",
                   "group by fewer columns, or by coarser ones");
    }
    for (const Level& level : levels) {
      LevelGroups groups{{}, {KeyLayout({}), {}, {}}, {}};
      request.groupings.emplace_back();
      for (std::uint32_t key = 0; key < reaching.size(); ++key) {
        if (std::find(level.kept.begin(), level.kept.end(), reaching[key]) == level.kept.end()) continue;
        request.groupings.back().push_back(key);
        groups.keys.push_back(reaching[key]);
      }
      made.levels.push_back(std::move(groups));
    }
    for (const NodePtr& condition : query_.where) {
      if (reaches(model_, condition, table)) request.filters.push_back(seen_from(condition, model_, table));
    }
    for (const NodePtr& aggregate : aggregates_) {
      if (aggregate->rows.table == table) request.aggregates.push_back(aggregate);
    }
    made.aggregates = request.aggregates;
    ScanResult scanned = scan(source_, request, threads_);
    rows_scanned_ += source_.store.tables[table].rows;
    if (scanned.filter_overflow) {
      return error(query_.span, "JR-701", "a condition of `where` computes a number that does not fit 128 bits",
                   "narrow the rows first, or use reals");
    }
    for (std::size_t l = 0; l < levels.size(); ++l) {
      LevelGroups& level = made.levels[l];
      level.groups = std::move(scanned.groupings[l]);
      for (GroupIndex g = 0; g < level.groups.keys.size(); ++g) level.index.emplace(key_bytes(level, g), g);
    }
    return made;
  }

  static std::string key_bytes(const LevelGroups& level, GroupIndex group) {
    std::string bytes(level.keys.size() * sizeof(std::uint64_t), '\0');
    for (std::size_t k = 0; k < level.keys.size(); ++k) {
      const std::uint64_t code = level.groups.layout.code(level.groups.keys[group], k);
      std::memcpy(bytes.data() + k * sizeof(code), &code, sizeof(code));
    }
    return bytes;
  }

  // --- one level ----------------------------------------------------------------------------------------------------

  // The combinations of the kept columns that occur in the tables that lead to all `by` columns, together.
  std::vector<Combination> find_combinations(const std::vector<TableScan>& scans, std::size_t number,
                                             const Level& level) const {
    if (level.kept.empty()) return {Combination(query_.by.size(), 0)};
    std::vector<Combination> combinations;
    boost::unordered_flat_map<std::string, bool> seen;
    for (const TableScan& scan : scans) {
      if (!scan.gives_rows) continue;
      const LevelGroups& found = scan.levels[number];
      for (const PackedKey key : found.groups.keys) {
        Combination codes(query_.by.size(), 0);
        for (std::size_t k = 0; k < found.keys.size(); ++k) codes[found.keys[k]] = found.groups.layout.code(key, k);
        if (seen.emplace(bytes_of(codes, level.kept), true).second) combinations.push_back(std::move(codes));
      }
    }
    return combinations;
  }

  // Evaluates the shown expressions for the combinations of one level.
  Result<void> show(const std::vector<TableScan>& scans, std::size_t number, Level& level) {
    const std::vector<Combination> combinations = find_combinations(scans, number, level);
    AggregateValues values;
    for (const TableScan& scan : scans) {
      const LevelGroups& found = scan.levels[number];
      std::vector<GroupIndex> at(combinations.size(), no_group);
      for (std::size_t i = 0; i < combinations.size(); ++i) {
        const auto group = found.index.find(bytes_of(combinations[i], found.keys));
        if (group != found.index.end()) at[i] = group->second;
      }
      for (std::size_t a = 0; a < scan.aggregates.size(); ++a) {
        values.emplace(canonical(model_, scan.aggregates[a]),
                       std::make_shared<const Vector>(found.groups.aggregates[a]->result(at)));
      }
    }
    Program program(source_, values, combinations.size());
    std::vector<Vector> shown;
    std::vector<Program::StepIndex> steps;
    for (const auto& item : query_.show) steps.push_back(program.add(item.expression));
    for (const auto step : steps) shown.push_back(program.evaluate(step));
    for (std::size_t i = 0; i < combinations.size(); ++i) {
      Detail row{combinations[i], {}};
      bool any = false;
      for (std::size_t s = 0; s < shown.size(); ++s) {
        if (overflowed(shown[s], i, query_.show[s].expression->type)) return overflow(s, combinations[i], level);
        row.shown.push_back(shown[s].value_at(i));
        any = any || !row.shown.back().is_null();
      }
      // Rows without any number are left out; a query without `by` always has its one row.
      if (any || query_.by.empty() || level.kept.empty()) level.rows.push_back(std::move(row));
    }
    return {};
  }

  static bool overflowed(const Vector& values, std::size_t row, Type type) {
    if (values.state[row] == State::overflow) return true;
    return values.state[row] == State::value && type.kind == TypeKind::integer && values.repr == Repr::wide &&
           !base::fits_int64(values.wide[row]);
  }

  tl::unexpected<Diagnostics> overflow(std::size_t s, const Combination& codes, const Level& level) const {
    std::string group;
    for (const std::uint32_t k : level.kept) {
      const Value value = key_value(k, codes[k]);
      group += fmt::format("{}{} = {}", group.empty() ? " where " : ", ", query_.by[k].name,
                           value.is_null() ? "null" : to_text(value, model_.column(query_.by[k].column.column).type));
    }
    return error(
        query_.show[s].span, "JR-701",
        fmt::format("'{}'{} does not fit {}", query_.show[s].name, group, to_string(query_.show[s].expression->type)),
        "use fewer digits after the point, or a real");
  }

  Value key_value(std::uint32_t k, std::uint64_t code) const {
    return source_.column(query_.by[k].column.column).value_of(code);
  }

  // --- the result ---------------------------------------------------------------------------------------------------

  QueryResult describe(const std::vector<Level>& levels) const {
    QueryResult result;
    result.title = query_.title;
    result.rows_scanned = rows_scanned_;
    for (const auto& key : query_.by) {
      const language::Column& column = model_.column(key.column.column);
      result.columns.push_back({key.name, column.type, column.format, true});
    }
    for (const auto& item : query_.show)
      result.columns.push_back({item.name, item.expression->type, item.format, false});
    for (const Level& level : levels) {
      std::vector<bool> kept(query_.by.size(), false);
      std::string names;
      for (const std::uint32_t k : level.kept) {
        kept[k] = true;
        names += (names.empty() ? "" : ", ") + query_.by[k].name;
      }
      if (result.levels.empty()) {
        names = "detail";
      } else if (level.kept.empty()) {
        names = "grand";
      } else if (level.kept.size() > 1) {
        names = "(" + names + ")";
      }
      result.levels.push_back(names);
      result.kept.push_back(std::move(kept));
    }
    return result;
  }

  // What orders the codes of a `by` column: the column that it is sorted by, then its own values; nulls last.
  std::vector<std::uint64_t> order_of_codes(std::uint32_t k, const std::vector<Level>& levels) const {
    const language::ColumnId id = query_.by[k].column.column;
    const store::Column& column = source_.column(id);
    std::vector<std::uint64_t> codes;
    for (const Level& level : levels) {
      for (const Detail& row : level.rows) codes.push_back(row.codes[k]);
    }
    std::sort(codes.begin(), codes.end());
    codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
    const auto& sorted_by = model_.column(id).sorted_by;
    std::map<std::uint64_t, Value> first;
    if (sorted_by) first = smallest_beside(column, source_.column({id.table, *sorted_by}), codes);
    std::stable_sort(codes.begin(), codes.end(), [&](std::uint64_t a, std::uint64_t b) {
      if (sorted_by) {
        if (const int order = compare(first[a], first[b]); order != 0) return order < 0;
      }
      return compare(column.value_of(a), column.value_of(b)) < 0;
    });
    return codes;
  }

  // For each of the codes, the smallest value of `other` in the rows where `column` has it.
  static std::map<std::uint64_t, Value> smallest_beside(const store::Column& column, const store::Column& other,
                                                        const std::vector<std::uint64_t>& codes) {
    std::map<std::uint64_t, Value> smallest;
    for (const std::uint64_t code : codes) smallest.emplace(code, Value());
    for (std::uint64_t row = 0; row < column.rows; ++row) {
      const auto at = smallest.find(column.codes.at(row));
      if (at == smallest.end()) continue;
      Value value = other.at(row);
      if (at->second.is_null() || compare(value, at->second) < 0) at->second = std::move(value);
    }
    return smallest;
  }

  void arrange(std::vector<Level>& levels, QueryResult& result) const {
    // Ranks instead of codes, so that rows compare by numbers.
    std::vector<boost::unordered_flat_map<std::uint64_t, std::uint64_t>> ranks(query_.by.size());
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
      for (const std::uint64_t code : order_of_codes(k, levels)) ranks[k].emplace(code, ranks[k].size());
    }
    const auto compare_rows = [&](const Detail& a, const Detail& b) {
      for (const language::QuerySort& sort : query_.sort) {
        if (const int order = compare_by(sort, a, b, ranks); order != 0) return order < 0;
      }
      for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
        const auto [x, y] = std::pair(ranks[k].at(a.codes[k]), ranks[k].at(b.codes[k]));
        if (x != y) return x < y;
      }
      return false;
    };
    for (Level& level : levels) std::stable_sort(level.rows.begin(), level.rows.end(), compare_rows);
    if (query_.limit && levels[0].rows.size() > *query_.limit) levels[0].rows.resize(*query_.limit);
    interleave(levels, result);
  }

  template <class Ranks>
  int compare_by(const language::QuerySort& sort, const Detail& a, const Detail& b, const Ranks& ranks) const {
    int order = 0;
    bool null = false;
    if (sort.column < query_.by.size()) {
      const std::uint64_t null_code = source_.column(query_.by[sort.column].column.column).null_code;
      const auto [x, y] = std::pair(a.codes[sort.column], b.codes[sort.column]);
      null = x == null_code || y == null_code;
      const auto [p, q] = std::pair(ranks[sort.column].at(x), ranks[sort.column].at(y));
      order = p < q ? -1 : (q < p ? 1 : 0);
    } else {
      const Value& x = a.shown[sort.column - query_.by.size()];
      const Value& y = b.shown[sort.column - query_.by.size()];
      null = x.is_null() || y.is_null();
      order = compare(x, y);
    }
    return sort.descending && !null ? -order : order;  // nulls come last either way
  }

  // A level's totals follow their rows where the rows of each stand together, the finer first; otherwise, and for
  // totals whose rows were all cut off by a limit, they come behind the rows. The grand total comes last.
  void interleave(const std::vector<Level>& levels, QueryResult& result) const {
    struct Placed {
      std::size_t after;  // position in the detail rows
      std::size_t kept;
      std::uint32_t level;
      const Detail* row;
    };
    std::vector<Placed> totals;
    for (std::uint32_t l = 1; l < levels.size(); ++l) {
      boost::unordered_flat_map<std::string, std::size_t> last;
      bool together = !levels[l].kept.empty();
      for (std::size_t i = 0; i < levels[0].rows.size(); ++i) {
        const auto [at, fresh] = last.try_emplace(bytes_of(levels[0].rows[i].codes, levels[l].kept), i);
        together = together && (fresh || at->second + 1 == i);
        at->second = i;
      }
      for (const Detail& row : levels[l].rows) {
        const auto at = last.find(bytes_of(row.codes, levels[l].kept));
        totals.push_back(
            {at == last.end() || !together ? levels[0].rows.size() : at->second, levels[l].kept.size(), l, &row});
      }
    }
    std::stable_sort(totals.begin(), totals.end(), [](const Placed& a, const Placed& b) {
      return a.after != b.after ? a.after < b.after : a.kept > b.kept;
    });
    std::size_t next = 0;
    for (std::size_t i = 0; i <= levels[0].rows.size(); ++i) {
      if (i < levels[0].rows.size()) append(levels[0], levels[0].rows[i], 0, result);
      for (; next < totals.size() && totals[next].after == i; ++next)
        append(levels[totals[next].level], *totals[next].row, totals[next].level, result);
    }
  }

  void append(const Level& level, const Detail& detail, std::uint32_t number, QueryResult& result) const {
    ResultRow row;
    row.level = number;
    row.cells.resize(query_.by.size());
    for (const std::uint32_t k : level.kept) row.cells[k] = key_value(k, detail.codes[k]);
    row.cells.insert(row.cells.end(), detail.shown.begin(), detail.shown.end());
    result.rows.push_back(std::move(row));
  }

  const Source& source_;
  const language::CheckedModel& model_;
  const Query& query_;
  unsigned threads_;
  std::vector<NodePtr> aggregates_;
  std::vector<TableIndex> tables_;
  std::uint64_t rows_scanned_ = 0;
};

}  // namespace

Result<QueryResult> run_query(const Source& source, const Query& query, unsigned threads) {
  return QueryRun(source, query, threads).run();
}

}  // namespace juniper::engine
