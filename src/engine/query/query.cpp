#include "engine/query/query.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <boost/unordered/unordered_flat_set.hpp>
#include <chrono>
#include <deque>
#include <numeric>
#include <optional>
#include <set>

#include "base/exact.h"
#include "base/parallel.h"
#include "engine/asked/live_tables.h"
#include "engine/asked/result_shape.h"
#include "engine/frame/evaluator.h"
#include "engine/query/arrange.h"
#include "engine/query/query_keys.h"
#include "engine/query/table_scans.h"
#include "language/traverse.h"

namespace juniper::engine {

namespace {

using namespace language;

constexpr GroupIndex no_group = 0xFFFFFFFF;

class QueryRun {
 public:
  using Clock = std::chrono::steady_clock;

  // `begin`: when the question was asked, for the first time.
  QueryRun(const Source& source, const Query& query, unsigned threads, Clock::time_point begin)
      : begin_(begin),
        source_(source),
        model_(source.model),
        query_(query),
        threads_(threads),
        evaluator_(source, threads),
        scans_(source, query, threads, evaluator_) {}

  QueryResult run() {
    std::vector<ArrangedLevel> levels(1 + query_.totals.size());
    levels[0].kept.resize(query_.by.size());
    std::iota(levels[0].kept.begin(), levels[0].kept.end(), 0U);
    for (std::size_t t = 0; t < query_.totals.size(); ++t) levels[t + 1].kept = query_.totals[t];
    std::vector<std::vector<std::uint32_t>> kept;
    for (const ArrangedLevel& level : levels) kept.push_back(level.kept);
    scans_.run(kept);
    for (std::size_t l = 0; l < levels.size(); ++l) {
      find_combinations(l, levels[l]);
      fail_if_too_large(levels[l]);
    }
    const Arrangement arrangement(source_, query_, scans_.keys(), levels[0]);
    for (std::size_t l = 0; l < levels.size(); ++l) show(l, arrangement, levels[l]);
    QueryResult result = arrangement.result(std::move(levels));
    result.rows_scanned = scans_.rows_scanned() + evaluator_.rows_scanned();
    result.notes.insert(result.notes.end(), evaluator_.notes().begin(), evaluator_.notes().end());
    result.nanoseconds = std::chrono::nanoseconds(Clock::now() - begin_).count();
    if (source_.live != nullptr) {
      for (const AskedStatement& asked : source_.live->statements()) result.rows_moved += asked.rows;
      result.statements = source_.live->statements().size();
    }
    return result;
  }

  Explanation explain() {
    const QueryResult result = run();
    Explanation made;
    ExplainStep& whole = made.steps.emplace_back();
    whole.way = ExplainWay::query;
    whole.what = query_.name.empty() ? std::string(model_.sources.text(query_.span)) : query_.name;
    whole.place = model_.sources.place(query_.span);
    whole.slices = 1 + query_.totals.size();
    whole.rows_in = result.rows_scanned;
    whole.rows_out = result.rows.size();
    whole.nanoseconds = result.nanoseconds;
    made.steps.insert(made.steps.end(), scans_.steps().begin(), scans_.steps().end());
    made.steps.insert(made.steps.end(), evaluator_.steps().begin(), evaluator_.steps().end());
    for (std::size_t i = 1; i < made.steps.size(); ++i) made.steps[0].bytes += made.steps[i].bytes;
    if (source_.live != nullptr) made.statements = source_.live->statements();
    for (const ExplainStep& step : evaluator_.steps()) {
      if (step.way != ExplainWay::row_by_row) continue;
      std::string text = fmt::format("{}:{}:{}: {}", step.place.file, step.place.line, step.place.column, step.what);
      if (std::find(made.row_by_row.begin(), made.row_by_row.end(), text) == made.row_by_row.end())
        made.row_by_row.push_back(std::move(text));
    }
    return made;
  }

 private:
  // --- one level ----------------------------------------------------------------------------------------------------

  // The combinations of the kept columns that occur in the tables that give rows, together. These lead to all columns,
  // so that they pack them alike.
  void find_combinations(std::size_t number, ArrangedLevel& level) {
    if (level.kept.empty()) {
      level.keys.push_back(0);
      return;
    }
    boost::unordered_flat_set<PackedKey, HashPackedKey> seen;
    for (TableScan& scan : scans_.all()) {
      if (!scan.gives_rows) continue;
      Groups& groups = scan.levels[number].groups;
      level.layout = groups.layout;
      if (is_only_source(scan)) {
        level.keys = std::move(groups.keys);
        return;
      }
      if (seen.empty()) level.keys = PackedKeys(groups.layout.bits());
      groups.keys.visit([&](const auto& keys) {
        for (const PackedKey key : keys) {
          if (seen.insert(key).second) level.keys.push_back(key);
        }
      });
    }
  }

  // Then its groups are the combinations, in the same order.
  bool is_only_source(const TableScan& scan) const {
    return scan.gives_rows && std::none_of(scans_.all().begin(), scans_.all().end(),
                                           [&](const auto& other) { return other.gives_rows && &other != &scan; });
  }

  // Finds the groups of a table's scan that belong to combinations of a level.
  class GroupsOf {
   public:
    GroupsOf(const LevelGroups& found, bool are_combinations) : found_(found), same_(are_combinations) {
      const PackedKeys& keys = found.groups.keys;
      for (std::size_t g = 0; g < keys.size() && !same_; ++g) index_.emplace(keys[g], static_cast<GroupIndex>(g));
    }

    // Those of a part's combinations, of which the first is the level's combination `begin`.
    std::vector<GroupIndex> of(const ArrangedLevel& part, std::size_t begin) const {
      std::vector<GroupIndex> at(part.keys.size(), no_group);
      if (same_) {
        std::iota(at.begin(), at.end(), static_cast<GroupIndex>(begin));
        return at;
      }
      for (std::size_t i = 0; i < at.size(); ++i) {
        PackedKey key = 0;
        for (std::size_t k = 0; k < found_.keys.size(); ++k)
          key = found_.groups.layout.with(key, k, part.code(i, found_.keys[k]));
        if (const auto group = index_.find(key); group != index_.end()) at[i] = group->second;
      }
      return at;
    }

   private:
    const LevelGroups& found_;
    bool same_;
    boost::unordered_flat_map<PackedKey, GroupIndex, HashPackedKey> index_;
  };

  // True if an expression needs nothing but the aggregates that the scans have computed.
  bool is_scanned(const NodePtr& node) {
    if (node->op == Op::measure) {
      const auto known = scanned_.find(node->measure);
      if (known != scanned_.end()) return known->second;
      const bool scanned = is_scanned(model_.measures[node->measure].expression);
      return scanned_.emplace(node->measure, scanned).first->second;
    }
    if (node->op == Op::aggregate) return TableScans::is_simple(*node);
    if (Evaluator::is_leaf(*node)) return false;
    return std::all_of(node->children.begin(), node->children.end(), [&](const NodePtr& n) { return is_scanned(n); });
  }

  // The slice that the keys of a level and the query's filters make. The values of keys are left out where nobody asks
  // for them.
  SlicePtr slice_of(const Frame* frame, const ArrangedLevel& level, bool with_values) const {
    auto slice = std::make_shared<Slice>();
    for (const NodePtr& condition : query_.where) {
      slice->predicates.push_back(
          {{PredicateKind::filter, condition, 0, condition->span, 0}, frame, nullptr, nullptr, nullptr, {}});
    }
    for (const std::uint32_t k : level.kept) {
      const QueryBy& by = query_.by[k];
      VectorPtr values = with_values ? key_values(level, k) : std::make_shared<const Vector>();
      slice->predicates.push_back(
          {{PredicateKind::key, by.expression, 0, by.span, 0}, frame, std::move(values), nullptr, nullptr, {}});
    }
    return slice;
  }

  // The values of a key for a level's combinations.
  VectorPtr key_values(const ArrangedLevel& level, std::uint32_t k) const {
    std::vector<std::uint64_t> codes(level.keys.size());
    for (std::size_t i = 0; i < codes.size(); ++i) codes[i] = level.code(i, k);
    return scans_.keys().decode(k, codes);
  }

  // A key is asked for once its rows are known.
  void fail_if_too_large(const ArrangedLevel& level) const {
    for (const std::uint32_t k : level.kept) {
      if (query_.by[k].is_column()) continue;
      for (std::size_t i = 0; i < level.keys.size(); ++i) {
        if (scans_.keys().is_overflow(k, level.code(i, k))) throw Failed{key_error(model_, query_.by[k].span)};
      }
    }
  }

  // Shows a level. Where its first rows alone are asked for, and the scans have computed all that it takes, parts of
  // its combinations are shown one by one: what does not belong to the first rows so far is forgotten at once.
  void show(std::size_t number, const Arrangement& arrangement, ArrangedLevel& level) {
    std::vector<GroupsOf> groups;  // for each scan
    for (const TableScan& scan : scans_.all())
      groups.emplace_back(scan.levels[number], is_only_source(scan) && !level.kept.empty());
    bool scanned = !query_.having || is_scanned(query_.having);
    for (const auto& item : query_.show) scanned = scanned && is_scanned(item.expression);
    constexpr std::size_t some = std::size_t{1} << 15;
    const std::size_t at_once = std::max<std::size_t>(some, 4 * query_.limit.value_or(0));
    if (number == 0 && query_.limit && scanned && level.keys.size() > at_once) {
      show_first(groups, at_once, arrangement, level);
      return;
    }
    std::optional<Overflow> overflow;
    show_part(evaluator_, number, groups, 0, scanned, level, overflow);
    fail_if(overflow, level);
  }

  void show_first(const std::vector<GroupsOf>& groups, std::size_t at_once, const Arrangement& arrangement,
                  ArrangedLevel& level) const {
    const std::size_t combinations = level.keys.size();
    const std::size_t limit = *query_.limit;
    struct First {
      ArrangedLevel level;
      std::optional<Overflow> overflow;
    };
    base::Guarded<First> first(level.part(0, 0), std::nullopt);
    base::parallel_for((combinations + at_once - 1) / at_once, threads_, [&](std::size_t p) {
      source_.check();
      const std::size_t begin = p * at_once;
      ArrangedLevel part = level.part(begin, std::min(combinations, begin + at_once));
      Evaluator evaluator(source_, 1);
      std::optional<Overflow> overflow_here;
      show_part(evaluator, 0, groups, begin, true, part, overflow_here);
      arrangement.keep_first(limit, part);
      first.change([&](First& all) {
        keep_first(overflow_here, all.overflow);
        all.level.append(part);
        arrangement.keep_first(limit, all.level);
      });
    });
    fail_if(first.alone().overflow, level);
    level = std::move(first.alone().level);
  }

  // A shown number, or without one `having`, that does not fit its type, and the codes of its combination.
  struct Overflow {
    std::optional<std::size_t> item;
    std::vector<std::uint64_t> codes;
  };

  // Combinations stand in no certain order: the first by its codes is told of.
  static void keep_first(std::optional<Overflow>& found, std::optional<Overflow>& first) {
    if (found && (!first || found->codes < first->codes)) first = std::move(found);
  }

  void fail_if(const std::optional<Overflow>& overflow, const ArrangedLevel& level) const {
    if (!overflow) return;
    std::vector<Value> values;
    for (std::size_t i = 0; i < level.kept.size(); ++i)
      values.push_back(scans_.keys().value_of(level.kept[i], overflow->codes[i]));
    throw Failed{overflow->item
                     ? overflow_error(source_.model, query_, query_.show[*overflow->item], level.kept, values)
                     : having_error(source_.model, query_, level.kept, values)};
  }

  // The values of a part's combinations, of which the first is the level's combination `begin`, and those of them that
  // are shown.
  void show_part(Evaluator& evaluator, std::size_t number, const std::vector<GroupsOf>& groups, std::size_t begin,
                 bool scanned, ArrangedLevel& part, std::optional<Overflow>& overflow) const {
    auto frame = std::make_shared<Frame>();
    frame->rows = part.keys.size();
    const SlicePtr slice = slice_of(frame.get(), part, !scanned);
    for (std::size_t s = 0; s < scans_.all().size(); ++s) {
      const TableScan& scan = scans_.all()[s];
      if (scan.aggregates.empty()) continue;
      const std::vector<GroupIndex> at = groups[s].of(part, begin);
      SlicePtr own = slice;
      for (const TableIndex bridge : scan.seen.bridges) own = Evaluator::over_bridge(bridge, frame, own);
      for (std::size_t a = 0; a < scan.aggregates.size(); ++a) {
        frame->known.emplace(std::pair(canonical(model_, scan.aggregates[a]), own),
                             std::make_shared<const Vector>(scan.levels[number].groups.aggregates[a]->result(at)));
      }
    }
    if (number == 0 && query_.having) {
      walk(query_.having, [&](const Node& node) {
        const auto key = std::find_if(query_.by.begin(), query_.by.end(), [&](const QueryBy& by) {
          return node.op == Op::name && by.variable == node.variable;
        });
        if (key != query_.by.end())
          frame->values.emplace(node.variable, key_values(part, static_cast<std::uint32_t>(key - query_.by.begin())));
      });
    }
    for (const auto& item : query_.show) part.shown.push_back(evaluator.evaluate(item.expression, frame, slice));
    VectorPtr having;
    if (number == 0 && query_.having) having = evaluator.evaluate(query_.having, frame, slice);
    choose(having, part, overflow);
  }

  // The combinations whose rows are shown.
  void choose(const VectorPtr& having, ArrangedLevel& level, std::optional<Overflow>& overflow) const {
    const std::size_t combinations = level.keys.size();
    const auto is_plain = [&](std::size_t s) {
      const Vector& values = *level.shown[s];
      return std::all_of(values.state.begin(), values.state.end(), [](State state) { return state == State::value; }) &&
             (values.repr != Repr::wide || query_.show[s].expression->type.kind != TypeKind::integer);
    };
    bool all_plain = !having && !level.shown.empty();
    for (std::size_t s = 0; s < level.shown.size() && all_plain; ++s) all_plain = is_plain(s);
    if (all_plain) {
      level.rows.resize(combinations);
      std::iota(level.rows.begin(), level.rows.end(), 0U);
      return;
    }
    for (std::uint32_t i = 0; i < combinations; ++i) {
      bool any = false;
      for (std::size_t s = 0; s < level.shown.size(); ++s) {
        any = any || level.shown[s]->state[i] == State::value;
        if (overflowed(*level.shown[s], i, query_.show[s].expression->type)) note_overflow(s, i, level, overflow);
      }
      // Rows without any number are left out; a query without `by` always has its one row.
      if (!any && !query_.by.empty() && !level.kept.empty() && !query_.keep_empty) continue;
      if (having && having->state[i] == State::overflow) note_overflow(std::nullopt, i, level, overflow);
      if (having && !having->is_true(i)) continue;
      level.rows.push_back(i);
    }
  }

  static void note_overflow(std::optional<std::size_t> item, std::uint32_t row, const ArrangedLevel& level,
                            std::optional<Overflow>& first) {
    std::optional<Overflow> found = Overflow{item, {}};
    for (const std::uint32_t k : level.kept) found->codes.push_back(level.code(row, k));
    keep_first(found, first);
  }

  static bool overflowed(const Vector& values, std::size_t row, Type type) {
    if (values.state[row] == State::overflow) return true;
    return values.state[row] == State::value && type.kind == TypeKind::integer && values.repr == Repr::wide &&
           !base::fits_int64(values.wide[row]);
  }

  Clock::time_point begin_;
  const Source& source_;
  const CheckedModel& model_;
  const Query& query_;
  unsigned threads_;
  Evaluator evaluator_;
  TableScans scans_;
  std::map<MeasureIndex, bool> scanned_;
};

}  // namespace

Result<Explanation> explain_query(const Source& source, const Query& query, unsigned threads) {
  try {
    const auto begin = std::chrono::steady_clock::now();
    return with_live_tables(source.live, [&] { return QueryRun(source, query, threads, begin).explain(); });
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<QueryResult> run_query(const Source& source, const Query& query, unsigned threads) {
  try {
    const auto begin = std::chrono::steady_clock::now();
    return with_live_tables(source.live, [&] { return QueryRun(source, query, threads, begin).run(); });
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

}  // namespace juniper::engine
