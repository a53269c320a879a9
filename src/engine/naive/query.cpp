// Queries and calculated columns by the naive evaluator: a slice for each combination of keys, and a value in each.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/exact.h"
#include "engine/arrange.h"
#include "engine/naive.h"
#include "engine/naive/evaluator.h"

namespace juniper::engine {

namespace naive {

namespace {

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

}  // namespace naive

Result<QueryResult> run_query_naively(const Source& source, const language::Query& query) {
  try {
    return naive::NaiveQuery(source, query).run();
  } catch (const naive::NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<std::vector<Value>> evaluate_rows_naively(const Source& source, language::TableIndex table,
                                                 const language::NodePtr& node) {
  try {
    naive::Naive evaluator(source);
    std::vector<Value> values;
    for (std::uint64_t i = 0; i < source.rows(table); ++i) {
      const naive::Cell cell = evaluator.value(node, evaluator.row_scope(table, i, source.model.tables[table].row));
      if (cell.overflow) {
        throw naive::NoAnswer{{source.model.sources.diagnostic(
            Severity::error, "JR-704", node->span, fmt::format("this does not fit its type in row {}", i + 1))}};
      }
      values.push_back(cell.value);
    }
    return values;
  } catch (const naive::NoAnswer& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

}  // namespace juniper::engine
