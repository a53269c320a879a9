// Aggregates over frames: see evaluator.h for the three ways.
#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <limits>
#include <numeric>

#include "engine/evaluator.h"

namespace juniper::engine {

using namespace language;

namespace {

constexpr GroupIndex no_group = 0xFFFFFFFF;
// Pairs that are written out at a time.
constexpr std::size_t most_pairs = std::size_t{1} << 21;

struct HashKey {
  std::size_t operator()(PackedKey key) const {
    const auto low = static_cast<std::uint64_t>(key);
    const auto high = static_cast<std::uint64_t>(key >> 64);
    return boost::hash<std::pair<std::uint64_t, std::uint64_t>>()({low, high});
  }
};

// The packed keys that the rows of a frame look for; nothing where no row has one of the codes.
std::optional<PackedKey> wanted_key(const Access& access, const KeyLayout& layout, std::size_t row) {
  PackedKey key = 0;
  for (std::size_t k = 0; k < access.keys.size(); ++k) {
    const std::uint64_t code = access.keys[k].wanted[row];
    if (code == Access::never) return std::nullopt;
    key = layout.with(key, k, code);
  }
  return key;
}

// The children of an aggregate that are evaluated over its rows.
std::vector<NodePtr> over_rows(const Node& node) {
  const std::size_t first = node.aggregate == Aggregate::rank ? 1 : 0;
  return {node.children.begin() + static_cast<std::ptrdiff_t>(first), node.children.end()};
}

bool orders_rows(const Node& node) {
  return node.aggregate == Aggregate::first || node.aggregate == Aggregate::last || node.aggregate == Aggregate::list;
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

}  // namespace

VectorPtr Evaluator::aggregate(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice) {
  const Step step(*this, node->span, frame->rows);
  const auto rows = plain(node->rows, frame, slice);
  step.get().way = "loop";
  step.get().rows_in = source_.store.tables[base_table(node->rows)].rows;
  if (!rows) return row_by_row(node, frame, slice, rows, nullptr, step);
  const Access found = access(*rows, frame);
  bool scannable = found.residual.empty() && found.days.empty();
  for (const NodePtr& value : over_rows(*node)) scannable = scannable && is_of_table(value, rows->variable);
  for (const NodePtr& key : rows->order)
    scannable = scannable && (node->aggregate != Aggregate::list || is_of_table(key, rows->variable));
  if (node->aggregate == Aggregate::rank && found.range) scannable = false;
  if (scannable) {
    std::vector<ScanKey> keys;
    for (const Access::Key& key : found.keys) keys.push_back(key.key);
    if (found.range) keys.push_back(found.range->key);
    scannable = layout_of(keys).fits();
  }
  if (!scannable) return with_poison(found, row_by_row(node, frame, slice, rows, &found, step));
  step.get().way = found.range ? "ranged" : "grouped";
  if (node->aggregate != Aggregate::rank) return with_poison(found, scanned(*node, *rows, found, step.get()));
  // The value that is ranked is one of the frame around.
  const VectorPtr values = evaluate(node->children[0], frame, slice);
  ScanRequest request;
  request.table = found.table;
  request.filters = found.filters;
  ScanAggregate aggregate{
      node, {of_slice_row(node->children[1], rows->variable, rows->slice->roles)}, found.where, false};
  request.aggregates.push_back(std::move(aggregate));
  for (const Access::Key& key : found.keys) request.keys.push_back(key.key);
  request.groupings.emplace_back(request.keys.size());
  std::iota(request.groupings[0].begin(), request.groupings[0].end(), 0U);
  ScanResult scanned = scan(source_, request, threads_);
  rows_scanned_ += source_.store.tables[found.table].rows;
  if (scanned.filter_overflow)
    fail(node->span, "JR-701", "a condition computes a number that does not fit 128 bits", "");
  Groups& groups = scanned.groupings[0];
  step.get().bytes = bytes_read(request);
  step.get().rows_out = groups.keys.size();
  boost::unordered_flat_map<PackedKey, GroupIndex, HashKey> index;
  for (GroupIndex g = 0; g < groups.keys.size(); ++g) index.emplace(groups.keys[g], g);
  std::vector<GroupIndex> at(frame->rows, no_group);
  for (std::size_t i = 0; i < frame->rows; ++i) {
    const auto key = wanted_key(found, groups.layout, i);
    const auto group = key ? index.find(*key) : index.end();
    if (group != index.end()) at[i] = group->second;
  }
  groups.collectors[0]->finish(node->dense);
  return with_poison(found,
                     std::make_shared<const Vector>(groups.collectors[0]->positions(*values, at, node->descending[0])));
}

std::uint64_t Evaluator::bytes_read(const ScanRequest& request) const {
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
    links.insert(key.path.begin(), key.path.end());
  }
  for (const ScanAggregate& aggregate : request.aggregates) {
    look(aggregate.where);
    for (const NodePtr& value : aggregate.values) look(value);
  }
  std::uint64_t bytes = 0;
  for (const ColumnId id : columns) bytes += source_.column(id).codes.bytes().size();
  for (const LinkIndex link : links) bytes += source_.store.links[link].rows.bytes().size();
  return bytes;
}

// One scan, grouped by what the frame's rows compare with.
VectorPtr Evaluator::scanned(const Node& node, const PlainRows& rows, const Access& access, ExplainStep& step) {
  ScanRequest request;
  request.table = access.table;
  request.filters = access.filters;
  for (const Access::Key& key : access.keys) request.keys.push_back(key.key);
  if (access.range) {
    request.keys.push_back(access.range->key);
    request.merging = Merging::one_by_one;
  }
  request.groupings.emplace_back(request.keys.size());
  std::iota(request.groupings[0].begin(), request.groupings[0].end(), 0U);
  auto copy = std::make_shared<Node>(node);
  ScanAggregate aggregate{copy, {}, access.where, false};
  const auto add = [&](const NodePtr& value) {
    aggregate.values.push_back(of_slice_row(value, rows.variable, rows.slice->roles));
  };
  for (const NodePtr& value : node.children) add(value);
  if (orders_rows(node)) {
    if (node.aggregate == Aggregate::list) {
      for (const NodePtr& key : rows.order) add(key);
      copy->descending = rows.descending;
    }
    // What is still tied is settled by the table's key, then by the row.
    const auto& columns = model_.tables[rows.table].columns;
    const auto key = std::find_if(columns.begin(), columns.end(), [](const language::Column& c) { return c.key; });
    if (key != columns.end()) {
      auto column = std::make_shared<Node>();
      column->op = Op::column;
      column->type = key->type;
      const auto index = static_cast<std::uint32_t>(key - columns.begin());
      column->column = {rows.table, {}, {rows.table, index}};
      aggregate.values.push_back(column);
    }
    aggregate.row_order = true;
  }
  request.aggregates.push_back(std::move(aggregate));
  const ScanResult scanned = scan(source_, request, threads_);
  step.bytes = bytes_read(request);
  step.rows_out = scanned.groupings[0].keys.size();
  rows_scanned_ += source_.store.tables[access.table].rows;
  if (scanned.filter_overflow) {
    fail(node.span, "JR-701", "a condition computes a number that does not fit 128 bits",
         "narrow the rows first, or use reals");
  }
  const Groups& groups = scanned.groupings[0];
  if (access.range) return ranged(*copy, access, groups);
  boost::unordered_flat_map<PackedKey, GroupIndex, HashKey> index;
  for (GroupIndex g = 0; g < groups.keys.size(); ++g) index.emplace(groups.keys[g], g);
  std::vector<GroupIndex> at(access.frame->rows, no_group);
  for (std::size_t i = 0; i < at.size(); ++i) {
    const auto key = wanted_key(access, groups.layout, i);
    const auto group = key ? index.find(*key) : index.end();
    if (group != index.end()) at[i] = group->second;
  }
  return std::make_shared<const Vector>(groups.aggregates[0]->result(at));
}

// --- ranges ---------------------------------------------------------------------------------------------------------

namespace {

// Partial results of consecutive groups, so that any stretch of them is the merge of a few: a binary tree in an array,
// node i above 2i and 2i + 1, the groups being the last ones.
class MergeTree {
 public:
  MergeTree(std::unique_ptr<Accumulator> nodes, const Accumulator& groups, std::span<const GroupIndex> order)
      : nodes_(std::move(nodes)), size_(order.size()) {
    nodes_->grow(2 * size_);
    for (std::size_t i = 0; i < size_; ++i) nodes_->merge_one(static_cast<GroupIndex>(size_ + i), groups, order[i]);
    for (std::size_t i = size_; i-- > 1;) {
      nodes_->merge_one(static_cast<GroupIndex>(i), *nodes_, static_cast<GroupIndex>(2 * i));
      nodes_->merge_one(static_cast<GroupIndex>(i), *nodes_, static_cast<GroupIndex>(2 * i + 1));
    }
  }
  // Adds groups begin to end - 1, in their order, to a group of `to`.
  void add(std::size_t begin, std::size_t end, Accumulator& to, GroupIndex group) const {
    std::vector<std::size_t> right;
    std::size_t l = begin + size_;
    std::size_t r = end + size_;
    for (; l < r; l /= 2, r /= 2) {
      if (l % 2 == 1) to.merge_one(group, *nodes_, static_cast<GroupIndex>(l++));
      if (r % 2 == 1) right.push_back(--r);
    }
    for (std::size_t i = right.size(); i-- > 0;) to.merge_one(group, *nodes_, static_cast<GroupIndex>(right[i]));
  }

 private:
  std::unique_ptr<Accumulator> nodes_;
  std::size_t size_;
};

}  // namespace

VectorPtr Evaluator::ranged(const Node& node, const Access& access, const Groups& groups) {
  const std::size_t keys = access.keys.size();
  struct Place {
    PackedKey key;
    std::uint64_t code;
    GroupIndex group;
  };
  std::vector<Place> places(groups.keys.size());
  for (GroupIndex g = 0; g < places.size(); ++g) {
    PackedKey key = 0;
    for (std::size_t k = 0; k < keys; ++k) key = groups.layout.with(key, k, groups.layout.code(groups.keys[g], k));
    places[g] = {key, groups.layout.code(groups.keys[g], keys), g};
  }
  std::sort(places.begin(), places.end(),
            [](const Place& a, const Place& b) { return a.key != b.key ? a.key < b.key : a.code < b.code; });
  boost::unordered_flat_map<PackedKey, std::pair<std::size_t, std::size_t>, HashKey> stretches;
  for (std::size_t begin = 0; begin < places.size();) {
    std::size_t end = begin;
    while (end < places.size() && places[end].key == places[begin].key) ++end;
    stretches.emplace(places[begin].key, std::pair(begin, end));
    begin = end;
  }
  const auto fresh = [&] { return make_accumulator(node, groups.inputs[0], Merging::one_by_one); };
  const std::size_t rows = access.frame->rows;
  auto results = fresh();
  results->grow(rows);
  const auto first_at = [&](std::size_t begin, std::size_t end, std::uint64_t code) {
    return static_cast<std::size_t>(std::partition_point(places.begin() + static_cast<std::ptrdiff_t>(begin),
                                                         places.begin() + static_cast<std::ptrdiff_t>(end),
                                                         [&](const Place& place) { return place.code < code; }) -
                                    places.begin());
  };
  // What each row of the frame asks for: stretches of the sorted groups.
  struct Asked {
    std::size_t begin;
    std::size_t end;
    std::uint32_t row;
  };
  std::vector<Asked> asked;
  for (std::uint32_t i = 0; i < rows; ++i) {
    const auto key = wanted_key(access, groups.layout, i);
    const auto stretch = key ? stretches.find(*key) : stretches.end();
    if (stretch == stretches.end()) continue;
    const auto [begin, end] = stretch->second;
    for (const CodeRange& range : *access.range->wanted[i]) {
      const std::size_t from = first_at(begin, end, range.begin);
      const std::size_t to = first_at(begin, end, range.end);
      if (from < to) asked.push_back({from, to, i});
    }
  }
  if (access.range->prefix) {
    // One sweep: every stretch begins where its keys do.
    std::sort(asked.begin(), asked.end(), [](const Asked& a, const Asked& b) { return a.end < b.end; });
    std::unique_ptr<Accumulator> running;
    std::size_t begin = std::numeric_limits<std::size_t>::max();
    std::size_t at = 0;
    for (const Asked& a : asked) {
      if (a.begin != begin) {
        running = fresh();
        running->grow(1);
        begin = at = a.begin;
      }
      for (; at < a.end; ++at) running->merge_one(0, *groups.aggregates[0], places[at].group);
      results->merge_one(a.row, *running, 0);
    }
  } else if (!asked.empty()) {
    std::vector<GroupIndex> order;
    for (const Place& place : places) order.push_back(place.group);
    const MergeTree tree(fresh(), *groups.aggregates[0], order);
    for (const Asked& a : asked) tree.add(a.begin, a.end, *results, a.row);
  }
  std::vector<GroupIndex> at(rows);
  std::iota(at.begin(), at.end(), 0U);
  return std::make_shared<const Vector>(results->result(at));
}

// What settles ties between rows: a table's key and then the row, or all fields of a derived row.
std::vector<VectorPtr> Evaluator::ties(const Frame& pairs) {
  const Binding& binding = pairs.bindings.begin()->second;
  if (!binding.table) return binding.fields;
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
                                const std::optional<PlainRows>& plain, const Access* access, const Step& step) {
  const bool is_rank = node->aggregate == Aggregate::rank;
  const auto values_of = over_rows(*node);
  std::unique_ptr<Accumulator> accumulator;
  std::unique_ptr<Collector> collector;
  auto ordered = std::make_shared<Node>(*node);
  if (node->aggregate == Aggregate::list) ordered->descending.clear();
  const auto take = [&](const FramePtr& pairs) {
    ExplainStep& own = step.get();
    own.rows_out += pairs->rows;
    const bool many = own.rows_out > 4 * (own.rows_in + own.slices);
    if (many || (access != nullptr && !access->residual.empty())) own.way = "row by row";
    std::vector<VectorPtr> values;
    for (const NodePtr& value : values_of) values.push_back(widened(evaluate(value, pairs, slice), value->type));
    if (node->aggregate == Aggregate::first || node->aggregate == Aggregate::last) {
      for (VectorPtr& tie : ties(*pairs)) values.push_back(std::move(tie));
    } else if (node->aggregate == Aggregate::list) {
      // The rows stand in the order of their set.
      auto places = std::make_shared<Vector>();
      places->reset(Repr::narrow, pairs->rows);
      std::iota(places->narrow.begin(), places->narrow.end(), 0);
      values.push_back(std::move(places));
    }
    std::vector<Repr> reprs;
    std::vector<const Vector*> inputs;
    for (const VectorPtr& value : values) {
      reprs.push_back(value->repr);
      inputs.push_back(value.get());
    }
    std::vector<std::uint32_t> all(pairs->rows);
    std::iota(all.begin(), all.end(), 0U);
    const std::span<const GroupIndex> groups = *pairs->up;
    if (is_rank) {
      if (!collector) collector = std::make_unique<Collector>(reprs[0]);
      collector->grow(frame->rows);
      collector->add(all, groups, *values[0]);
    } else {
      if (!accumulator) accumulator = make_accumulator(*ordered, reprs);
      accumulator->grow(frame->rows);
      accumulator->add(all, groups, inputs);
    }
  };
  const auto finish = [&](const FramePtr& of) -> VectorPtr {
    std::vector<GroupIndex> at(of->rows);
    std::iota(at.begin(), at.end(), 0U);
    if (!is_rank) return std::make_shared<const Vector>(accumulator->result(at));
    collector->finish(node->dense);
    return std::make_shared<const Vector>(
        collector->positions(*evaluate(node->children[0], of, slice), at, node->descending[0]));
  };
  // Rows that are a table's are written out in parts; each row of the frame is in one part.
  if (plain && (plain->order.empty() || !orders_rows(*node))) {
    if (values_of.size() == 1 && is_rank) {
      for_pairs(*access, *plain, std::numeric_limits<std::size_t>::max(), take);
    } else {
      for_pairs(*access, *plain, most_pairs, take);
    }
    return finish(frame);
  }
  const std::size_t each = std::max<std::size_t>(source_.store.tables[base_table(node->rows)].rows, 1);
  const std::size_t part = std::max<std::size_t>(most_pairs / each, 1);
  if (frame->rows <= part) {
    take(rows(node->rows, frame, slice));
    return finish(frame);
  }
  std::shared_ptr<Vector> all;
  for (std::size_t begin = 0; begin < frame->rows; begin += part) {
    const std::size_t end = std::min(frame->rows, begin + part);
    std::vector<std::uint32_t> up(end - begin);
    std::iota(up.begin(), up.end(), static_cast<std::uint32_t>(begin));
    auto some = std::make_shared<Frame>();
    some->rows = up.size();
    some->parent = frame;
    some->up = std::make_shared<const std::vector<std::uint32_t>>(std::move(up));
    const VectorPtr values = row_by_row(node, some, slice, plain, access, step);
    if (!all) {
      all = std::make_shared<Vector>();
      all->reset(values->repr, frame->rows);
    }
    append(*values, begin, end, *all);
  }
  return all;
}

}  // namespace juniper::engine
