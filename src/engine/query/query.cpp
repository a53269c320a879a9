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
#include "engine/asked/result_shape.h"
#include "engine/frame/evaluator.h"
#include "engine/query/arrange.h"
#include "engine/query/query_keys.h"
#include "language/traverse.h"

namespace juniper::engine {

namespace {

using namespace language;

constexpr GroupIndex no_group = 0xFFFFFFFF;

// The rows of one table with the links that lead from it: what combinations of keys occur there, and what aggregates
// over it come to, for each level.
struct TableScan {
  TableIndex table = 0;
  Roles roles;
  bool gives_rows = false;
  std::vector<NodePtr> aggregates;
  struct LevelGroups {
    std::vector<std::uint32_t> keys;  // indexes into query.by, those that the level keeps and that reach the table
    Groups groups;
  };
  std::vector<LevelGroups> levels;
};

class QueryRun {
 public:
  QueryRun(const Source& source, const Query& query, unsigned threads)
      : source_(source), model_(source.model), query_(query), threads_(threads), evaluator_(source, threads) {}

  QueryResult run() {
    const auto begin = std::chrono::steady_clock::now();
    std::vector<ArrangedLevel> levels(1 + query_.totals.size());
    levels[0].kept.resize(query_.by.size());
    std::iota(levels[0].kept.begin(), levels[0].kept.end(), 0U);
    for (std::size_t t = 0; t < query_.totals.size(); ++t) levels[t + 1].kept = query_.totals[t];
    scan_tables(levels);
    for (std::size_t l = 0; l < levels.size(); ++l) {
      find_combinations(l, levels[l]);
      fail_if_too_large(levels[l]);
    }
    const Arrangement arrangement(source_, query_, *keys_, levels[0]);
    for (std::size_t l = 0; l < levels.size(); ++l) show(l, arrangement, levels[l]);
    QueryResult result = arrangement.result(std::move(levels));
    result.rows_scanned = rows_scanned_ + evaluator_.rows_scanned();
    result.notes.assign(evaluator_.notes().begin(), evaluator_.notes().end());
    result.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
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
    made.steps.insert(made.steps.end(), steps_.begin(), steps_.end());
    made.steps.insert(made.steps.end(), evaluator_.steps().begin(), evaluator_.steps().end());
    for (std::size_t i = 1; i < made.steps.size(); ++i) made.steps[0].bytes += made.steps[i].bytes;
    for (const ExplainStep& step : evaluator_.steps()) {
      if (step.way != ExplainWay::row_by_row) continue;
      std::string text = fmt::format("{}:{}:{}: {}", step.place.file, step.place.line, step.place.column, step.what);
      if (std::find(made.row_by_row.begin(), made.row_by_row.end(), text) == made.row_by_row.end())
        made.row_by_row.push_back(std::move(text));
    }
    return made;
  }

 private:
  // --- one pass over each table -------------------------------------------------------------------------------------

  // Aggregates in the query's own slice over nothing but a table's columns: those of one table share one scan with each
  // other and with the search for the rows, for all levels.
  void collect(const NodePtr& node, std::set<std::string>& seen) {
    if (node->op == Op::measure) {
      if (collected_.insert(node->measure).second) collect(model_.measures[node->measure].expression, seen);
      return;
    }
    if (node->op == Op::aggregate) {
      if (is_simple(*node) && seen.insert(canonical(model_, node)).second)
        scan_of(*node->rows->table, {}).aggregates.push_back(node);
      return;
    }
    if (node->op == Op::modified || node->op == Op::let) return;
    for (const NodePtr& child : node->children) collect(child, seen);
  }

  static bool is_simple(const Node& node) {
    const RowSet* set = node.rows.get();
    const VariableId row = set->variable;
    bool simple = true;
    const auto look = [&](const NodePtr& part) {
      walk(part, [&](const Node& n) {
        simple = simple && (!Evaluator::is_leaf(n) || (n.op == Op::column && n.variable == row));
      });
    };
    while (set->kind == RowsKind::filtered) {
      look(set->condition);
      set = set->input.get();
    }
    simple = simple && set->kind == RowsKind::table && !set->of && !set->via && !set->across;
    if (!simple || Evaluator::is_order_told(node)) return false;
    for (const NodePtr& child : node.children) look(child);
    return simple;
  }

  TableScan& scan_of(TableIndex table, const Roles& roles) {
    const auto at = std::find_if(scans_.begin(), scans_.end(),
                                 [&](const TableScan& scan) { return scan.table == table && scan.roles == roles; });
    if (at != scans_.end()) return *at;
    scans_.push_back({table, roles, false, {}, {}});
    return scans_.back();
  }

  void scan_tables(const std::vector<ArrangedLevel>& levels) {
    std::set<std::string> seen;
    for (const auto& item : query_.show) collect(item.expression, seen);
    if (query_.having) collect(query_.having, seen);
    for (const auto& [table, roles] : query_.sources) scan_of(table, roles).gives_rows = true;
    std::set<std::pair<TableIndex, Roles>> tables;
    for (const TableScan& scan : scans_) tables.emplace(scan.table, scan.roles);
    keys_.emplace(source_, query_, tables, threads_);
    for (TableScan& scan : scans_) scan_table(scan, levels);
  }

  static NodePtr of_row(const NodePtr& node, VariableId row) {
    return replaced(node, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column || n->variable != row) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->variable = slice_row;
      return copy;
    });
  }

  ScanAggregate aggregate_of(const NodePtr& node) const {
    ScanAggregate aggregate{node, {}, {}, nullptr};
    const VariableId row = node->rows->variable;
    for (const NodePtr& child : node->children) aggregate.values.push_back(of_row(child, row));
    for (const RowSet* set = node->rows.get(); set->kind == RowsKind::filtered; set = set->input.get()) {
      NodePtr condition = of_row(set->condition, row);
      if (aggregate.where) {
        auto both = std::make_shared<Node>();
        both->op = Op::and_;
        both->type = condition->type;
        both->span = condition->span;
        both->children = {condition, aggregate.where};
        condition = both;
      }
      aggregate.where = condition;
    }
    return aggregate;
  }

  void scan_table(TableScan& made, const std::vector<ArrangedLevel>& levels) {
    ScanRequest request;
    request.table = made.table;
    std::vector<std::uint32_t> reaching;  // for each of request.keys, its index in query.by
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
      if (auto key = keys_->seen_from(k, made.table, made.roles)) {
        reaching.push_back(k);
        request.keys.push_back(std::move(*key));
      }
    }
    if (!layout_of(request.keys).fits()) throw Failed{too_wide_error(source_, query_)};
    for (const ArrangedLevel& level : levels) {
      TableScan::LevelGroups groups;
      request.groupings.emplace_back();
      for (std::uint32_t key = 0; key < reaching.size(); ++key) {
        if (std::find(level.kept.begin(), level.kept.end(), reaching[key]) == level.kept.end()) continue;
        request.groupings.back().push_back(key);
        groups.keys.push_back(reaching[key]);
      }
      made.levels.push_back(std::move(groups));
    }
    for (const NodePtr& condition : query_.where) {
      const Predicate predicate{PredicateKind::filter, condition, 0, condition->span, 0};
      if (reach(model_, predicate, made.table, made.roles) != Reach::all) continue;
      request.filters.push_back(replaced(condition, [&](const NodePtr& n) -> NodePtr {
        if (n->op != Op::column) return nullptr;
        auto copy = std::make_shared<Node>(*n);
        copy->column = *model_.rebase(n->column, made.table, made.roles).ref;
        return copy;
      }));
    }
    for (const NodePtr& aggregate : made.aggregates) request.aggregates.push_back(aggregate_of(aggregate));
    const auto begin = std::chrono::steady_clock::now();
    ScanResult scanned = scan(source_, request, threads_);
    ExplainStep& step = steps_.emplace_back();
    step.depth = 1;
    step.way = ExplainWay::scan;
    step.what = model_.tables[made.table].name;
    for (const LinkIndex role : made.roles) step.what += " via " + model_.links[role].role;
    step.what += fmt::format(": {} aggregate{}", made.aggregates.size(), made.aggregates.size() == 1 ? "" : "s");
    for (const std::uint32_t k : reaching) step.what += (k == reaching.front() ? ", by " : ", ") + query_.by[k].name;
    step.slices = levels.size();
    step.rows_in = source_.rows(made.table);
    for (const Groups& groups : scanned.groupings) step.rows_out += groups.keys.size();
    step.bytes = evaluator_.bytes_read(request);
    for (const TableIndex table : scanned.row_tables)
      step.note +=
          fmt::format("{}groups are told by the row of {}", step.note.empty() ? "" : "; ", model_.tables[table].name);
    if (scanned.took_or_apart)
      step.note += fmt::format("{}what `or` demands of each table is looked up first", step.note.empty() ? "" : "; ");
    step.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
    rows_scanned_ += source_.rows(made.table);
    if (scanned.filter_overflow) {
      throw Failed{{model_.sources.diagnostic(Severity::error, "JR-701", query_.span,
                                              "a condition of `where` computes a number that does not fit 128 bits",
                                              "narrow the rows first, or use reals")}};
    }
    for (std::size_t l = 0; l < levels.size(); ++l) made.levels[l].groups = std::move(scanned.groupings[l]);
  }

  // --- one level ----------------------------------------------------------------------------------------------------

  // The combinations of the kept columns that occur in the tables that give rows, together. These lead to all columns,
  // so that they pack them alike.
  void find_combinations(std::size_t number, ArrangedLevel& level) {
    if (level.kept.empty()) {
      level.keys.push_back(0);
      return;
    }
    boost::unordered_flat_set<PackedKey, HashPackedKey> seen;
    for (TableScan& scan : scans_) {
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
    return scan.gives_rows && std::none_of(scans_.begin(), scans_.end(),
                                           [&](const auto& other) { return other.gives_rows && &other != &scan; });
  }

  // Finds the groups of a table's scan that belong to combinations of a level.
  class GroupsOf {
   public:
    GroupsOf(const TableScan::LevelGroups& found, bool are_combinations) : found_(found), same_(are_combinations) {
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
    const TableScan::LevelGroups& found_;
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
    if (node->op == Op::aggregate) return is_simple(*node);
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
    return keys_->decode(k, codes);
  }

  // A key is asked for once its rows are known.
  void fail_if_too_large(const ArrangedLevel& level) const {
    for (const std::uint32_t k : level.kept) {
      if (query_.by[k].is_column()) continue;
      for (std::size_t i = 0; i < level.keys.size(); ++i) {
        if (keys_->is_overflow(k, level.code(i, k))) throw Failed{key_error(model_, query_.by[k].span)};
      }
    }
  }

  // Shows a level. Where its first rows alone are asked for, and the scans have computed all that it takes, parts of
  // its combinations are shown one by one: what does not belong to the first rows so far is forgotten at once.
  void show(std::size_t number, const Arrangement& arrangement, ArrangedLevel& level) {
    std::vector<GroupsOf> groups;  // for each scan
    for (const TableScan& scan : scans_)
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
      values.push_back(keys_->value_of(level.kept[i], overflow->codes[i]));
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
    for (std::size_t s = 0; s < scans_.size(); ++s) {
      const TableScan& scan = scans_[s];
      if (scan.aggregates.empty()) continue;
      const std::vector<GroupIndex> at = groups[s].of(part, begin);
      for (std::size_t a = 0; a < scan.aggregates.size(); ++a) {
        frame->known.emplace(std::pair(canonical(model_, scan.aggregates[a]), slice),
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

  const Source& source_;
  const CheckedModel& model_;
  const Query& query_;
  unsigned threads_;
  Evaluator evaluator_;
  std::optional<QueryKeys> keys_;  // once the tables are known that are scanned
  std::deque<TableScan> scans_;
  // Measures that were looked at: two that name a third one twice would else have it looked at four times, and so on.
  std::set<MeasureIndex> collected_;
  std::map<MeasureIndex, bool> scanned_;
  std::vector<ExplainStep> steps_;
  std::uint64_t rows_scanned_ = 0;
};

}  // namespace

Result<Explanation> explain_query(const Source& source, const Query& query, unsigned threads) {
  try {
    return QueryRun(source, query, threads).explain();
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

Result<QueryResult> run_query(const Source& source, const Query& query, unsigned threads) {
  try {
    return QueryRun(source, query, threads).run();
  } catch (const Failed& failed) {
    return tl::unexpected(failed.diagnostics);
  }
}

}  // namespace juniper::engine
