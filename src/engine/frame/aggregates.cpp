// Aggregates over frames: see evaluator.h for the ways.
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <limits>
#include <numeric>

#include "base/parallel.h"
#include "engine/frame/evaluator.h"
#include "language/operations.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

namespace {

constexpr GroupIndex no_group = 0xFFFFFFFF;
// Pairs that are written out at a time.
constexpr std::size_t most_pairs = std::size_t{1} << 21;

// The packed keys that the rows of a frame look for; nothing where no row has one of the codes.
std::optional<PackedKey> wanted_key(const Access& access, const KeyLayout& layout, std::size_t row) {
  PackedKey key = 0;
  for (std::size_t k = 0; k < access.keys.size(); ++k) {
    const std::uint64_t code = access.keys[k].at(row);
    if (code == Access::never) return std::nullopt;
    key = layout.with(key, k, code);
  }
  return key;
}

// Exact numbers in the wider of their two representations: parts that are evaluated apart may differ in it.
VectorPtr widened(VectorPtr values, Type type) {
  if (!type.is_exact_number() || values->repr == Repr::wide) return values;
  auto out = std::make_shared<Vector>();
  out->reset(Repr::wide, values->size());
  out->state = values->state;
  std::copy(values->narrow.begin(), values->narrow.begin() + static_cast<std::ptrdiff_t>(values->size()),
            out->wide.begin());
  return out;
}

void append(const Vector& from, std::size_t begin, std::size_t end, Vector& to) {
  for (std::size_t i = begin; i < end; ++i) {
    to.state[i] = from.state[i - begin];
    if (to.state[i] != State::value) continue;
    if (to.repr == from.repr && to.repr != Repr::text) {
      with_type(to.repr, [&](auto zero) { to.of<decltype(zero)>()[i] = from.of<decltype(zero)>()[i - begin]; });
    } else {
      to.set(i, from.value_at(i - begin));
    }
  }
}

std::vector<ScanKey> scan_keys(const Access& access) {
  std::vector<ScanKey> keys;
  for (const Access::Key& key : access.keys) keys.push_back(key.key);
  return keys;
}

// What the rows of the frame look for.
KeyLayout layout_of_keys(const Access& access) {
  return access.layout_of_parts(scan_keys(access));
}

// Groups by their keys: in a table where there are not many more keys than groups and look-ups.
class GroupsByKey {
 public:
  GroupsByKey(const Groups& groups, std::size_t look_ups) {
    const PackedKey keys = groups.layout.last() + 1;
    const bool is_table = groups.layout.bits() <= 32 && keys <= 16 * (groups.keys.size() + look_ups) + 4096;
    if (is_table) table_.assign(static_cast<std::size_t>(keys), no_group);
    groups.keys.visit([&](const auto& packed) {
      GroupIndex group = 0;
      for (const auto key : packed) {
        if (is_table) {
          table_[static_cast<std::size_t>(key)] = group++;
        } else if (groups.layout.bits() <= 64) {
          narrow_.emplace(static_cast<std::uint64_t>(key), group++);
        } else {
          wide_.emplace(key, group++);
        }
      }
    });
  }
  GroupIndex find(PackedKey key) const {
    if (!table_.empty()) return table_[static_cast<std::size_t>(key)];
    if (const auto at = narrow_.find(static_cast<std::uint64_t>(key)); at != narrow_.end() && key >> 64 == 0)
      return at->second;
    const auto at = wide_.find(key);
    return at != wide_.end() ? at->second : no_group;
  }

 private:
  std::vector<GroupIndex> table_;
  boost::unordered_flat_map<std::uint64_t, GroupIndex> narrow_;
  boost::unordered_flat_map<PackedKey, GroupIndex, HashPackedKey> wide_;
};

// A frame of the first row of a frame, for what is the same for all of them.
FramePtr first_row(const FramePtr& frame) {
  auto first = std::make_shared<Frame>();
  first->rows = 1;
  first->parent = frame;
  first->up = std::make_shared<const std::vector<std::uint32_t>>(1, 0U);
  return first;
}

}  // namespace

VectorPtr Evaluator::aggregate(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice) {
  if (node->aggregate == Aggregate::rank) return rank(*node, frame, slice);
  const Step step(*this, node->span, frame->rows);
  const auto rows = plain(node->rows, frame, slice);
  step.get().way = ExplainWay::loop;
  step.get().rows_in = source_.rows(base_table(node->rows));
  // What is the same for all rows of the frame is evaluated once, unless a scan answers them all anyway.
  const bool alike = frame->rows > 1 && is_alike(node->rows, frame, slice) &&
                     std::all_of(node->children.begin(), node->children.end(),
                                 [&](const NodePtr& value) { return is_of_rows(value, node->rows); });
  const auto once_for_all = [&] {
    const auto first = std::make_shared<const std::vector<std::uint32_t>>(frame->rows, 0U);
    return gathered(evaluate(node, first_row(frame), slice), first);
  };
  if (!rows) return alike ? once_for_all() : row_by_row(node, frame, slice, rows, nullptr, step);
  const Access found = access(*rows, frame);
  bool scannable = found.residual.empty() && found.days.empty();
  for (const NodePtr& value : node->children) scannable = scannable && is_of_table(value, rows->variable);
  for (const NodePtr& key : rows->order)
    scannable = scannable && (node->aggregate != Aggregate::list || is_of_table(key, rows->variable));
  if (scannable) {
    std::vector<ScanKey> keys = scan_keys(found);
    if (found.range) keys.push_back(found.range->key);
    scannable = layout_of(keys).fits() && found.layout_of_parts(keys).fits();
  }
  if (!scannable && alike) return once_for_all();
  if (!scannable && node->aggregate == Aggregate::exists && found.residual.size() == 1 && found.other_inside &&
      found.days.empty() && !found.range && found.other_inside->type.kind != TypeKind::boolean &&
      layout_of(scan_keys(found)).fits() && layout_of_keys(found).fits()) {
    step.get().way = ExplainWay::grouped;
    return with_poison(found, exists_other(*node, *rows, found, step.get()));
  }
  if (!scannable) return with_poison(found, row_by_row(node, frame, slice, rows, &found, step));
  step.get().way = found.range ? ExplainWay::ranged : ExplainWay::grouped;
  ScanRequest request = request_of(*node, *rows, found);
  return with_poison(found, scanned(*node, request, found, step.get())[0]);
}

// Whether a row has another value than one from outside: where the least or the greatest of its key's does.
VectorPtr Evaluator::exists_other(const Node& node, const PlainRows& rows, const Access& access, ExplainStep& step) {
  const VectorPtr outside =
      widened(evaluate(access.other_outside, access.frame, access.around), access.other_outside->type);
  poison(access, *outside);
  ScanRequest request;
  for (const Aggregate extreme : {Aggregate::min, Aggregate::max}) {
    Node of_key = node;
    of_key.aggregate = extreme;
    of_key.type = access.other_inside->type;
    ScanRequest one = request_of(of_key, rows, access);
    one.aggregates[0].values = {access.other_inside};
    if (request.aggregates.empty()) {
      request = std::move(one);
    } else {
      request.aggregates.push_back(std::move(one.aggregates[0]));
    }
  }
  const std::vector<VectorPtr> extremes = scanned(node, request, access, step);
  step.note = "there is another value where the least or the greatest of the key is another";
  auto exists = std::make_shared<Vector>();
  exists->reset(Repr::narrow, access.frame->rows);
  for (const VectorPtr& extreme : extremes) {
    // A condition that does not fit in some row of the key leaves it open.
    for (std::size_t i = 0; i < exists->size(); ++i) {
      if (extreme->state[i] == State::overflow) exists->state[i] = State::overflow;
    }
    const VectorPtr of_key = widened(extreme, access.other_inside->type);
    with_type(of_key->repr, [&](auto zero) {
      const auto& theirs = of_key->of<decltype(zero)>();
      const auto& ours = outside->of<decltype(zero)>();
      for (std::size_t i = 0; i < exists->size(); ++i) {
        const bool both = of_key->state[i] == State::value && outside->state[i] == State::value;
        exists->narrow[i] = exists->narrow[i] != 0 || (both && theirs[i] != ours[i]) ? 1 : 0;
      }
    });
  }
  return exists;
}

// A rank is one more than the number of rows, or of values, that come before: rank(x among y for R) is
// 1 + count(R where y < x).
VectorPtr Evaluator::rank(const Node& node, const FramePtr& frame, const SlicePtr& slice) {
  if (frame->rows > 1 && is_alike(node.rows, frame, slice) && is_of_rows(node.children[1], node.rows))
    return rank_among_alike(node, frame, slice);
  // A column of a row in scope is compared as it stands; anything else is evaluated once and named.
  const NodePtr& outside = node.children[0];
  const VectorPtr values = evaluate(outside, frame, slice);
  auto inner = std::make_shared<Frame>();
  inner->rows = frame->rows;
  inner->parent = frame;
  auto value = std::make_shared<Node>(*outside);
  if (outside->op != Op::column) {
    *value = Node();
    value->op = Op::name;
    value->type = outside->type;
    value->span = outside->span;
    value->variable = next_name_++;
    inner->values[value->variable] = values;
  }
  auto before = std::make_shared<Node>();
  before->op = Op::less;
  before->type = {TypeKind::boolean, 0};
  before->span = node.span;
  before->children = {node.children[1], value};
  if (node.descending[0]) std::swap(before->children[0], before->children[1]);
  auto set = std::make_shared<RowSet>(*node.rows);
  set->kind = RowsKind::filtered;
  set->input = node.rows;
  set->condition = before;
  auto count = std::make_shared<Node>();
  count->op = Op::aggregate;
  count->type = node.type;
  count->span = node.span;
  count->aggregate = node.dense ? Aggregate::count_distinct : Aggregate::row_count;
  count->rows = set;
  if (node.dense) count->children = {node.children[1]};
  auto places = std::make_shared<Vector>(*evaluate(count, inner, slice));
  places->all_values = false;
  for (std::size_t i = 0; i < places->size(); ++i) {
    if (values->state[i] != State::value) places->state[i] = values->state[i];
    ++places->narrow[i];
  }
  return places;
}

// True if an expression over the rows of a set reads nothing but them: no other row, no name, nothing in the slice of
// the frame.
bool Evaluator::is_of_rows(const NodePtr& node, const RowSetPtr& set) {
  std::set<VariableId> own;
  for (const RowSet* at = set.get(); at != nullptr; at = at->input.get()) own.insert(at->variable);
  bool only = true;
  walk_scalars(node, [&](const Node& n) {
    if (!is_leaf(n)) return;
    if (n.op == Op::column || n.op == Op::field) {
      only = only && own.contains(n.variable);
    } else if (n.op == Op::modified && n.modifiers->of && own.contains(*n.modifiers->of)) {
      for (const NodePtr& condition : n.modifiers->where) only = only && !reads_outside(condition);
      // What is modified may read other rows than the one that it is narrowed to.
      for (const VariableId outer : outer_variables(n.children[0])) only = only && own.contains(outer);
    } else {
      only = false;
    }
  });
  return only;
}

// True if a set has the same rows, carrying the same slice, for all rows of the frame.
bool Evaluator::is_alike(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const auto all_of_rows = [&](const std::vector<NodePtr>& nodes) {
    return std::all_of(nodes.begin(), nodes.end(), [&](const NodePtr& node) { return is_of_rows(node, set); });
  };
  switch (set->kind) {
    case RowsKind::table: {
      if (set->of) return false;
      const SlicePtr seen = table_slice(*set, frame, slice);
      return std::all_of(seen->predicates.begin(), seen->predicates.end(), [](const HeldPredicate& held) {
        return held.predicate.kind == PredicateKind::filter && held.names.empty();
      });
    }
    case RowsKind::filtered:
      return is_of_rows(set->condition, set) && is_alike(set->input, frame, slice);
    case RowsKind::extended:
    case RowsKind::sorted:
    case RowsKind::top:
    case RowsKind::distinct:
      return all_of_rows(set->values) && is_alike(set->input, frame, slice);
    case RowsKind::members:
    case RowsKind::named:
    case RowsKind::days:
    case RowsKind::grouped:
    case RowsKind::unite:
    case RowsKind::except:
    case RowsKind::intersect:
      return false;
  }
  return false;
}

// A rank among the same values for all rows of the frame: these are evaluated once, and each rank is looked up.
VectorPtr Evaluator::rank_among_alike(const Node& node, const FramePtr& frame, const SlicePtr& slice) {
  const Step step(*this, node.span, frame->rows);
  step.get().way = ExplainWay::loop;
  const VectorPtr values = widened(evaluate(node.children[0], frame, slice), node.children[0]->type);
  const FramePtr pairs = rows(node.rows, first_row(frame), slice);
  step.get().rows_in = source_.rows(base_table(node.rows));
  step.get().rows_out = pairs->rows;
  const Encoding among(*widened(evaluate(node.children[1], pairs, slice), node.children[1]->type));
  // How many rows, or of a dense rank values, have a smaller code.
  std::vector<std::int64_t> before(among.null_code() + 1, 0);
  for (const std::uint64_t code : *among.codes()) {
    if (code != among.null_code()) before[code + 1] = node.dense ? 1 : before[code + 1] + 1;
  }
  std::partial_sum(before.begin(), before.end(), before.begin());
  auto places = std::make_shared<Vector>();
  places->reset(Repr::narrow, frame->rows);
  for (std::size_t i = 0; i < frame->rows; ++i) {
    places->state[i] = values->state[i] == State::value && among.overflowed() ? State::overflow : values->state[i];
    if (places->state[i] != State::value) continue;
    const std::int64_t smaller =
        node.descending[0] ? before.back() - before[among.through(*values, i)] : before[among.before(*values, i)];
    places->narrow[i] = 1 + smaller;
  }
  return places;
}

std::uint64_t Evaluator::bytes_read(const ScanRequest& request) const {
  if (source_.is_live(request.table)) return 0;
  std::set<ColumnId> columns;
  std::set<LinkIndex> links;
  const auto take = [&](const ColumnRef& ref) {
    columns.insert(ref.column);
    links.insert(ref.path.begin(), ref.path.end());
  };
  const auto look = [&](const NodePtr& node) {
    walk(node, [&](const Node& n) {
      if (n.op == Op::column) take(n.column);
    });
  };
  for (const NodePtr& filter : request.filters) look(filter);
  for (const ScanKey& key : request.keys) {
    if (key.kind == ScanKey::Kind::column) take(key.column);
    look(key.expression);
    links.insert(key.path.begin(), key.path.end());
  }
  for (const ScanAggregate& aggregate : request.aggregates) {
    look(aggregate.where);
    for (const NodePtr& value : aggregate.values) look(value);
  }
  std::uint64_t bytes = 0;
  for (const LinkIndex link : links) {
    const store::StoredLink& stored = source_.link(link);
    bytes += stored.rows.bytes().size();
    if (stored.reads_key())
      columns.insert({static_cast<language::TableIndex>(stored.table), static_cast<std::uint32_t>(stored.column)});
  }
  for (const ColumnId id : columns) bytes += source_.column(id).codes.bytes().size();
  return bytes;
}

ScanRequest Evaluator::request_of(const Node& node, const PlainRows& rows, const Access& access) {
  ScanRequest request;
  request.table = access.table;
  request.filters = access.filters;
  for (const Access::Key& key : access.keys) request.keys.push_back(key.key);
  ScanAggregate aggregate{std::make_shared<const Node>(node), {}, {}, access.where};
  const auto here = [&](const NodePtr& value) { return of_slice_row(value, rows.variable, rows.slice->roles); };
  if (!order_tells(node.aggregate)) {
    for (const NodePtr& value : node.children) aggregate.values.push_back(here(value));
    request.aggregates.push_back(std::move(aggregate));
    return request;
  }
  aggregate.values.push_back(here(node.children[0]));
  if (node.aggregate == Aggregate::list) {
    for (std::size_t k = 0; k < rows.order.size(); ++k)
      aggregate.order.push_back({ordered_key(here(rows.order[k]), access.table), rows.descending[k], false});
  }
  for (std::size_t k = 1; k < node.children.size(); ++k)
    aggregate.order.push_back({ordered_key(here(node.children[k]), access.table), node.descending[k - 1], true});
  // What is still tied is settled by the table's key, or by the row.
  if (const auto settling = source_.settling_column(rows.table)) {
    auto column = std::make_shared<Node>();
    column->op = Op::column;
    column->type = model_.tables[rows.table].columns[*settling].type;
    column->column = {rows.table, {}, {rows.table, *settling}};
    aggregate.order.push_back({ordered_key(column, rows.table), false, false});
  } else {
    const std::uint64_t last_row = source_.rows(rows.table);
    aggregate.order.push_back({{ScanKey::Kind::row, {}, {}, nullptr, last_row}, false, false});
  }
  request.aggregates.push_back(std::move(aggregate));
  return request;
}

namespace {

// What a scan asks for, as a text that is equal for equal requests; nothing where that can't be told.
std::optional<std::string> text_of(const CheckedModel& model, const ScanRequest& request) {
  std::string text = fmt::format("{} {}", request.table, static_cast<int>(request.merging));
  const auto add_node = [&](const NodePtr& node) { text += "; " + (node ? canonical(model, node) : std::string()); };
  const auto add_key = [&](const ScanKey& key) {
    text += fmt::format("; {} {} {} {} {}", static_cast<int>(key.kind), key.column.column.table,
                        key.column.column.column, fmt::join(key.column.path, " "), fmt::join(key.path, " "));
    return key.kind != ScanKey::Kind::given;
  };
  for (const NodePtr& filter : request.filters) add_node(filter);
  for (const ScanKey& key : request.keys) {
    if (!add_key(key)) return std::nullopt;
  }
  if (std::any_of(request.wanted.begin(), request.wanted.end(), [](const auto& codes) { return codes != nullptr; }))
    return std::nullopt;
  for (const auto& grouping : request.groupings) text += fmt::format("; by {}", fmt::join(grouping, " "));
  for (const ScanAggregate& aggregate : request.aggregates) {
    const Node& node = *aggregate.node;
    const bool is_quantile = node.aggregate == Aggregate::quantile;
    text += fmt::format("; {} {}", static_cast<int>(node.aggregate), is_quantile ? node.literal.real() : 0.0);
    for (const NodePtr& value : aggregate.values) add_node(value);
    add_node(aggregate.where);
    if (!aggregate.order.empty()) return std::nullopt;
  }
  return text;
}

}  // namespace

// The same pass is made once for a question.
std::shared_ptr<const ScanResult> Evaluator::scan_once(const ScanRequest& request) {
  const auto text = text_of(model_, request);
  if (text) {
    if (const auto known = scans_.find(*text); known != scans_.end()) return known->second;
  }
  auto result = std::make_shared<const ScanResult>(scan(source_, request, threads_));
  rows_scanned_ += source_.rows(request.table);
  if (text) scans_.emplace(*text, result);
  return result;
}

std::shared_ptr<const BridgeParts> Evaluator::bridge_parts(const RowsRequest& request, TableIndex table,
                                                           const std::string& what, Span span) {
  ScanRequest same;
  same.table = request.table;
  same.filters = request.conditions;
  same.keys = request.keys;
  same.wanted = request.wanted;
  const auto text = text_of(model_, same);
  if (text) {
    if (const auto known = bridge_parts_.find(*text); known != bridge_parts_.end()) return known->second;
  }
  const auto begin = std::chrono::steady_clock::now();
  auto read = BridgeParts::read(source_, request, source_.rows(table), threads_);
  if (!read) fail_filter(span);
  auto parts = std::make_shared<const BridgeParts>(std::move(*read));
  ExplainStep& step = steps_.emplace_back();
  step.depth = depth_ + 1;
  step.way = ExplainWay::scan;
  step.what = fmt::format("{}: pairs with {}{}", model_.tables[request.table].name, model_.tables[table].name, what);
  step.slices = 1;
  step.rows_in = source_.rows(request.table);
  step.rows_out = parts->pairs();
  step.bytes = bytes_read(same);
  step.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
  rows_scanned_ += source_.rows(request.table);
  if (text) bridge_parts_.emplace(*text, parts);
  return parts;
}

// One scan, grouped by what the frame's rows compare with.
std::vector<VectorPtr> Evaluator::scanned(const Node& node, ScanRequest& request, const Access& access,
                                          ExplainStep& step) {
  const std::uint64_t table_rows = source_.rows(access.table);
  if (access.range) {
    request.keys.push_back(access.range->key);
    step.bytes = bytes_read(request);
    // Where nearly each row would be a group of its own, the rows are sorted instead.
    std::uint64_t combinations = 1;
    for (const ScanKey& key : request.keys) {
      if (__builtin_mul_overflow(combinations, key.last + 1, &combinations)) combinations = table_rows;
      combinations = std::min(combinations, table_rows);
    }
    if (2 * combinations > table_rows && !access.has_bridges() && !source_.is_live(access.table)) {
      step.rows_out = table_rows;
      rows_scanned_ += table_rows;
      if (const VectorPtr values = ranged_rows(request, access)) return {values};
    }
    request.merging = Merging::one_by_one;
  }
  if (access.has_bridges()) request.merging = Merging::one_by_one;
  request.groupings.emplace_back(request.keys.size());
  std::iota(request.groupings[0].begin(), request.groupings[0].end(), 0U);
  // Where the frame's rows ask for few of the keys, others are not looked at. A live table is asked for all.
  if (!access.range && !source_.is_live(access.table)) request.wanted = access.wanted_codes();
  if (std::any_of(request.wanted.begin(), request.wanted.end(), [](const auto& codes) { return codes != nullptr; }))
    step.note = "only the keys that are asked for are read";
  const auto scanned = over_bridges(access, scan_once(request));
  step.bytes = bytes_read(request);
  step.rows_out = scanned->groupings[0].keys.size();
  if (scanned->filter_overflow) fail_filter(node.span);
  const Groups& groups = scanned->groupings[0];
  if (access.range) return {ranged_groups(access, groups)};
  const GroupsByKey index(groups, access.frame->rows);
  std::vector<GroupIndex> at(access.frame->rows, no_group);
  for (std::size_t i = 0; i < at.size(); ++i) {
    if (const auto key = wanted_key(access, groups.layout, i)) at[i] = index.find(*key);
  }
  std::vector<VectorPtr> results;
  for (const auto& aggregate : groups.aggregates)
    results.push_back(std::make_shared<const Vector>(aggregate->result(at)));
  return results;
}

// --- ranges ---------------------------------------------------------------------------------------------------------

namespace {

// Numbers the combinations of keys of so many items. They are their own numbers where there are not many more of them.
class Partitions {
 public:
  Partitions(const KeyLayout& layout, std::size_t items)
      : direct_(layout.bits() <= 22 && (std::size_t{1} << layout.bits()) <= 4 * items + 4096), bits_(layout.bits()) {}

  std::uint32_t add(PackedKey key) {
    if (direct_) return static_cast<std::uint32_t>(key);
    return numbers_.try_emplace(key, static_cast<std::uint32_t>(numbers_.size())).first->second;
  }
  std::uint32_t find(const std::optional<PackedKey>& key) const {
    if (!key) return StretchRequest::none;
    if (direct_) return static_cast<std::uint32_t>(*key);
    const auto at = numbers_.find(*key);
    return at == numbers_.end() ? StretchRequest::none : at->second;
  }
  std::size_t size() const { return direct_ ? std::size_t{1} << bits_ : numbers_.size(); }

 private:
  bool direct_;
  unsigned bits_;
  boost::unordered_flat_map<PackedKey, std::uint32_t, HashPackedKey> numbers_;
};

// Completes a request whose items are there, with what the frame's rows ask for.
VectorPtr asked(StretchRequest& stretches, const Access& access, const KeyLayout& layout, const Partitions& partitions,
                unsigned threads) {
  stretches.partitions = partitions.size();
  stretches.wanted = &access.range->wanted;
  stretches.null_code = access.range->key.last;
  stretches.row_partition.resize(access.frame->rows);
  for (std::size_t i = 0; i < stretches.row_partition.size(); ++i)
    stretches.row_partition[i] = partitions.find(wanted_key(access, layout, i));
  return std::make_shared<const Vector>(aggregate_stretches(std::move(stretches), threads));
}

// Adds what orders the items to the inputs: as one number where all keys fit one.
void add_order(const std::vector<SharedCodes>& codes, std::vector<OrderKey>& order, StretchRequest& stretches,
               unsigned threads) {
  unsigned bits = 0;
  for (const OrderKey& key : order) bits += static_cast<unsigned>(std::bit_width(key.null_code));
  const bool packed = bits <= 62;
  const std::size_t rows = codes[0]->size();
  for (std::size_t k = 0; k < codes.size(); ++k) {
    if (k == 0 || !packed) {
      stretches.inputs.emplace_back();
      stretches.inputs.back().reset(Repr::narrow, rows);
    }
    std::vector<std::int64_t>& places = stretches.inputs.back().narrow;
    const OrderKey& key = order[k];
    const auto width = static_cast<unsigned>(std::bit_width(key.null_code));
    base::parallel_ranges(rows, threads, [&](std::size_t begin, std::size_t end) {
      for (std::size_t row = begin; row < end; ++row) {
        const std::uint64_t code = (*codes[k])[row];
        if (key.needed && code == key.null_code) stretches.item_partition[row] = StretchRequest::none;
        const std::uint64_t place = key.descending && code != key.null_code ? key.null_code - 1 - code : code;
        const auto before = packed && k > 0 ? static_cast<std::uint64_t>(places[row]) << width : 0;
        places[row] = static_cast<std::int64_t>(before | place);
      }
    });
  }
  order.assign(packed ? 1 : order.size(), OrderKey{std::uint64_t{1} << 63, false, false});
}

}  // namespace

VectorPtr Evaluator::ranged_groups(const Access& access, const Groups& groups) {
  const KeyLayout layout = layout_of_keys(access);
  Partitions partitions(layout, groups.keys.size());
  StretchRequest stretches;
  std::vector<std::uint64_t> codes;
  groups.keys.visit([&](const auto& keys) {
    for (const PackedKey packed : keys) {
      PackedKey key = 0;
      for (std::size_t k = 0; k < layout.columns(); ++k) key = layout.with(key, k, groups.layout.code(packed, k));
      stretches.item_partition.push_back(partitions.add(key));
      codes.push_back(groups.layout.code(packed, layout.columns()));
    }
  });
  stretches.item_code = std::make_shared<const std::vector<std::uint64_t>>(std::move(codes));
  stretches.fresh = [&](Merging) { return groups.fresh[0](); };
  stretches.partial = groups.aggregates[0].get();
  return asked(stretches, access, layout, partitions, threads_);
}

// The same with rows in the place of groups; null where a condition of the aggregate overflows.
VectorPtr Evaluator::ranged_rows(const ScanRequest& request, const Access& access) {
  const ScanAggregate& aggregate = request.aggregates[0];
  Program program(source_, request.table);
  const auto all_of = [&](Program::StepIndex step) { return program.evaluate(step, threads_); };
  std::vector<std::uint8_t> passes(program.rows(), 1);
  const auto keep = [&](const NodePtr& condition) {
    const Vector holds = all_of(program.add(condition));
    bool overflow = false;
    for (std::size_t row = 0; row < passes.size(); ++row) {
      overflow = overflow || (passes[row] != 0 && holds.state[row] == State::overflow);
      passes[row] = passes[row] != 0 && holds.is_true(row) ? 1 : 0;
    }
    return !overflow;
  };
  for (const NodePtr& filter : request.filters) {
    if (!keep(filter)) fail_filter(aggregate.node->span);
  }
  if (aggregate.where && !keep(aggregate.where)) return nullptr;

  const KeyLayout layout = layout_of_keys(access);
  Partitions partitions(layout, program.rows());
  StretchRequest stretches;
  std::vector<SharedCodes> codes;
  for (const Access::Key& key : access.keys) codes.push_back(codes_of(key.key, request.table));
  stretches.item_code = codes_of(access.range->key, request.table);
  stretches.item_partition.assign(program.rows(), StretchRequest::none);
  for (std::size_t row = 0; row < passes.size(); ++row) {
    if (passes[row] == 0) continue;
    PackedKey key = 0;
    for (std::size_t k = 0; k < codes.size(); ++k) key = layout.with(key, k, (*codes[k])[row]);
    stretches.item_partition[row] = partitions.add(key);
  }
  for (const NodePtr& value : aggregate.values) stretches.inputs.push_back(all_of(program.add(value)));
  std::vector<OrderKey> order = aggregate.order_keys();
  std::vector<SharedCodes> places;
  for (const ScanOrder& by : aggregate.order) places.push_back(codes_of(by.key, request.table));
  if (!order.empty()) add_order(places, order, stretches, threads_);
  std::vector<Repr> reprs;
  for (const Vector& input : stretches.inputs) reprs.push_back(input.repr);
  stretches.fresh = [&](Merging merging) { return make_accumulator(*aggregate.node, reprs, merging, order); };
  return asked(stretches, access, layout, partitions, threads_);
}

// What settles ties between rows: a table's key and then the row, or all fields of a derived row.
std::vector<VectorPtr> Evaluator::ties(const Frame& pairs) {
  const Binding& binding = pairs.bindings.begin()->second;
  if (!binding.table) {
    std::vector<VectorPtr> values;
    for (const FieldValues& field : binding.fields) values.push_back(field.values());
    return values;
  }
  const auto& order = row_order(*binding.table);
  std::vector<std::int64_t> place(order.size());
  for (std::size_t i = 0; i < order.size(); ++i) place[order[i]] = static_cast<std::int64_t>(i);
  auto places = std::make_shared<Vector>();
  places->reset(Repr::narrow, pairs.rows);
  for (std::size_t i = 0; i < pairs.rows; ++i) places->narrow[i] = place[(*binding.rows)[i]];
  return {places};
}

// --- row by row -----------------------------------------------------------------------------------------------------

// Pairs are written out for loops over measures, too, where there are no more of them than rows.
VectorPtr Evaluator::row_by_row(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice,
                                const std::optional<PlainRows>& plain, const Access* access, const Step& step,
                                Parts parts) {
  std::unique_ptr<Accumulator> accumulator;
  std::uint64_t all_written = 0;
  const auto take = [&](const FramePtr& pairs, std::size_t written) {
    ExplainStep& own = step.get();
    own.rows_out += pairs->rows;
    all_written += written;
    const bool many = all_written > 4 * (own.rows_in + own.slices);
    // Without a key, each row is looked at for each slice.
    const bool residual = access != nullptr && !access->residual.empty();
    if (many || (residual && access->keys.empty() && own.slices > 1)) {
      own.way = ExplainWay::row_by_row;
      own.note.clear();
    } else if (residual) {
      own.way = ExplainWay::candidates;
      own.note = "further conditions are computed for the rows that pass all others";
    }
    std::vector<VectorPtr> values;
    const std::size_t plain_values = order_tells(node->aggregate) ? 1 : node->children.size();
    for (std::size_t v = 0; v < plain_values; ++v)
      values.push_back(widened(evaluate(node->children[v], pairs, slice), node->children[v]->type));
    std::vector<Repr> reprs;
    for (const VectorPtr& value : values) reprs.push_back(value->repr);
    // The rows of a slice are in one part, whose codes are of no use in another; null has the same one in all.
    constexpr std::uint64_t last_place = std::uint64_t{1} << 62;
    std::vector<OrderKey> order;
    const auto add_order = [&](const Vector& by, language::Span span, bool descending, bool needed) {
      const Encoding encoding(by);
      if (encoding.overflowed()) fail_key(span);
      auto codes = std::make_shared<Vector>();
      codes->reset(Repr::narrow, pairs->rows);
      std::transform(encoding.codes()->begin(), encoding.codes()->end(), codes->narrow.begin(), [&](auto code) {
        return static_cast<std::int64_t>(code == encoding.null_code() ? last_place : code);
      });
      order.push_back({last_place, descending, needed});
      values.push_back(std::move(codes));
    };
    for (std::size_t k = plain_values; k < node->children.size(); ++k)
      add_order(*evaluate(node->children[k], pairs, slice), node->children[k]->span, node->descending[k - 1], true);
    if (node->aggregate == Aggregate::list) {
      // The rows stand in the order of their set.
      auto places = std::make_shared<Vector>();
      places->reset(Repr::narrow, pairs->rows);
      std::iota(places->narrow.begin(), places->narrow.end(), 0);
      order.push_back({last_place, false, false});
      values.push_back(std::move(places));
    } else if (order_tells(node->aggregate)) {
      for (const VectorPtr& tie : ties(*pairs)) add_order(*tie, node->span, false, false);
    }
    std::vector<const Vector*> inputs;
    for (const VectorPtr& value : values) inputs.push_back(value.get());
    if (!accumulator) accumulator = make_accumulator(*node, reprs, Merging::whole, order);
    accumulator->grow(frame->rows);
    accumulator->add({pairs->rows, pairs->up->data(), nullptr, false}, inputs);
  };
  const auto finish = [&](const FramePtr& of) -> VectorPtr {
    std::vector<GroupIndex> at(of->rows);
    std::iota(at.begin(), at.end(), 0U);
    return std::make_shared<const Vector>(accumulator->result(at));
  };
  // Rows that are a table's are written out in parts; each row of the frame is in one part.
  if (plain && (plain->order.empty() || !order_tells(node->aggregate))) {
    for_pairs(*access, *plain, most_pairs, take);
    return finish(frame);
  }
  // How many rows a set has is known when it is there: parts grow by what the ones before had, so that few groups of a
  // large table are few parts.
  const std::size_t each = std::max<std::size_t>(source_.rows(base_table(node->rows)), 1);
  std::size_t part = std::max<std::size_t>(most_pairs / each, 1);
  if (parts == Parts::one || frame->rows <= part) {
    const FramePtr pairs = rows(node->rows, frame, slice);
    take(pairs, pairs->rows);
    return finish(frame);
  }
  const std::uint64_t pairs_before = step.get().rows_out;
  std::shared_ptr<Vector> all;
  for (std::size_t begin = 0; begin < frame->rows;) {
    const std::size_t end = std::min(frame->rows, begin + part);
    std::vector<std::uint32_t> up(end - begin);
    std::iota(up.begin(), up.end(), static_cast<std::uint32_t>(begin));
    auto some = std::make_shared<Frame>();
    some->rows = up.size();
    some->parent = frame;
    some->up = std::make_shared<const std::vector<std::uint32_t>>(std::move(up));
    const VectorPtr values = row_by_row(node, some, slice, plain, access, step, Parts::one);
    if (!all) {
      all = std::make_shared<Vector>();
      all->reset(values->repr, frame->rows);
    }
    append(*values, begin, end, *all);
    begin = end;
    const std::uint64_t pairs = step.get().rows_out - pairs_before;
    part = std::clamp<std::size_t>(most_pairs * end / std::max<std::uint64_t>(pairs, 1), 1, 64 * part);
  }
  return all;
}

}  // namespace juniper::engine
