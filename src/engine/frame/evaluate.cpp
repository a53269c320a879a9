// Expressions over frames, and what modifiers make of a slice.
#include <algorithm>
#include <limits>
#include <numeric>

#include "base/calendar.h"
#include "base/exact.h"
#include "base/parallel.h"
#include "engine/asked/result_shape.h"
#include "engine/frame/evaluator.h"
#include "engine/frame/periods.h"
#include "engine/vector/column_values.h"
#include "language/operations.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

bool Evaluator::is_leaf(const Node& node) {
  const OpForm form = form_of(node.op);
  return form != OpForm::literal && form != OpForm::operation;
}

bool Evaluator::is_order_told(const Node& aggregate) {
  switch (aggregate.aggregate) {
    case Aggregate::rank:
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::list:
      return true;
    case Aggregate::sum:
    case Aggregate::avg:
    case Aggregate::min:
    case Aggregate::max:
    case Aggregate::row_count:
    case Aggregate::count:
    case Aggregate::count_distinct:
    case Aggregate::product:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
    case Aggregate::any:
    case Aggregate::every:
    case Aggregate::exists:
    case Aggregate::only:
      return false;
  }
  return true;
}

void Evaluator::fail(Span span, std::string code, std::string message, std::string suggestion) const {
  throw Failed{
      {model_.sources.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion))}};
}

void Evaluator::fail_filter(Span span) const {
  fail(span, "JR-701", "a condition computes a number that does not fit 128 bits",
       "narrow the rows first, or use reals");
}

void Evaluator::fail_key(Span span) const {
  throw Failed{key_error(model_, span)};
}

VectorPtr Evaluator::evaluate(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice) {
  return evaluate(node, canonical(model_, node), frame, slice);
}

VectorPtr Evaluator::evaluate(const NodePtr& node, std::string text, const FramePtr& frame, const SlicePtr& slice) {
  std::pair<std::string, SlicePtr> key{std::move(text), slice};
  if (const auto known = frame->known.find(key); known != frame->known.end()) return known->second;
  VectorPtr result = is_leaf(*node) ? leaf(node, frame, slice) : computed(node, frame, slice);
  frame->known.emplace(std::move(key), result);
  return result;
}

// Scalar operations, over leaves that are evaluated first.
VectorPtr Evaluator::computed(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice) {
  LeafValues leaves;
  const std::function<void(const NodePtr&)> collect = [&](const NodePtr& n) {
    if (!is_leaf(*n)) {
      for (const NodePtr& child : n->children) collect(child);
      return;
    }
    const std::string key = canonical(model_, n);
    if (!leaves.contains(key)) leaves.emplace(key, evaluate(n, key, frame, slice));
  };
  collect(node);
  auto program = std::make_unique<Program>(source_, leaves, frame->rows);
  const auto step = program->add(node);
  auto result = std::make_shared<const Vector>(program->evaluate(step, threads_));
  if (result->repr == Repr::text) programs_.push_back(std::move(program));
  return result;
}

VectorPtr Evaluator::leaf(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice) {
  switch (form_of(node->op)) {
    case OpForm::column: {
      const auto [at, binding] = find_binding(*frame, node->variable);
      const RowNumbers rows = gathered(binding->rows, map_up(*frame, at));
      return read(routed(model_, node->column, binding->slice ? binding->slice->roles : Roles{}), rows);
    }
    case OpForm::field: {
      const auto [at, binding] = find_binding(*frame, node->variable);
      return gathered(binding->fields[node->field].values(), map_up(*frame, at));
    }
    case OpForm::name: {
      const Frame* at = frame.get();
      while (!at->values.contains(node->variable)) at = at->parent.get();
      return gathered(at->values.at(node->variable), map_up(*frame, at));
    }
    case OpForm::measure:
      return evaluate(model_.measures[node->measure].expression, frame, slice);
    case OpForm::modified:
      return evaluate(node->children[0], frame, modified(*node->modifiers, frame, slice));
    case OpForm::let:
      return let(*node, frame, slice);
    case OpForm::aggregate:
      return aggregate(node, frame, slice);
    case OpForm::literal:
    case OpForm::grouping:
    case OpForm::operation: {
      const bool grouped = std::any_of(slice->predicates.begin(), slice->predicates.end(),
                                       [&](const auto& held) { return is_grouped_by(model_, held.predicate, *node); });
      return constant(Value::of(static_cast<int128>(grouped ? 0 : 1)), node->type, frame->rows);
    }
  }
  return constant(Value(), node->type, frame->rows);
}

VectorPtr Evaluator::constant(const Value& value, Type type, std::size_t rows) {
  auto out = std::make_shared<Vector>();
  const bool wide = type.is_exact_number() && !value.is_null() && !base::fits_int64(value.exact());
  out->reset(type.kind == TypeKind::real
                 ? Repr::real
                 : (type.kind == TypeKind::text ? Repr::text : (wide ? Repr::wide : Repr::narrow)),
             rows);
  for (std::size_t i = 0; i < rows; ++i) out->set(i, value);
  return out;
}

// A frame of the same rows, in which a name of `let` has its meaning.
FramePtr Evaluator::with_name(const Let& let, const FramePtr& frame, const SlicePtr& slice) {
  auto inner = std::make_shared<Frame>();
  inner->rows = frame->rows;
  inner->parent = frame;
  if (let.rows) {
    inner->sets[let.name] = rows(let.rows, frame, slice);
  } else {
    inner->values[let.name] = evaluate(let.value, frame, slice);
  }
  return inner;
}

VectorPtr Evaluator::let(const Node& node, const FramePtr& frame, const SlicePtr& slice) {
  FramePtr at = frame;
  for (const Let& let : node.lets) at = with_name(let, at, slice);
  return evaluate(node.children[0], at, slice);
}

// A column as seen from given rows of the table where its path begins.
namespace {

// The codes of some rows; those of neighbours in one block are decoded together.
void read_codes(const store::Codes& codes, std::span<const std::uint64_t> rows, std::uint64_t* out) {
  std::vector<std::uint32_t> in_block;
  std::vector<std::uint32_t> narrow;
  std::vector<std::uint64_t> wide;
  for (std::size_t begin = 0; begin < rows.size();) {
    const std::uint64_t block = rows[begin] / store::block_rows;
    std::size_t end = begin + 1;
    while (end < rows.size() && rows[end] / store::block_rows == block && rows[end - 1] <= rows[end]) ++end;
    const std::size_t count = end - begin;
    if (count == 1) {
      out[begin] = codes.at(rows[begin]);
    } else if (codes.bounds(block).high <= std::numeric_limits<std::uint32_t>::max()) {
      in_block.resize(count);
      narrow.resize(count);
      for (std::size_t i = 0; i < count; ++i)
        in_block[i] = static_cast<std::uint32_t>(rows[begin + i] % store::block_rows);
      // A row that stands there twice is decoded twice.
      codes.decode_rows(block, in_block, narrow.data());
      std::copy(narrow.begin(), narrow.end(), out + begin);
    } else {
      wide.resize(store::block_rows);
      codes.decode_block(block, wide.data());
      for (std::size_t i = begin; i < end; ++i) out[i] = wide[rows[i] % store::block_rows];
    }
    begin = end;
  }
}

}  // namespace

VectorPtr Evaluator::read(const ColumnRef& ref, const RowNumbers& rows) {
  const store::Column& column = source_.column(ref.column);
  auto out = std::make_shared<Vector>();
  out->reset(repr_of(column), rows->size());
  base::parallel_ranges(rows->size(), threads_, [&](std::size_t begin, std::size_t end) {
    // Where links lead, those that lead nowhere left out; and for whom.
    std::vector<std::uint64_t> at(rows->begin() + static_cast<std::ptrdiff_t>(begin),
                                  rows->begin() + static_cast<std::ptrdiff_t>(end));
    std::vector<std::size_t> of(at.size());
    std::iota(of.begin(), of.end(), begin);
    std::vector<std::uint64_t> codes(at.size());
    for (const CodesOnTheWay& step : codes_along(source_, ref.path, nullptr)) {
      read_codes(*step.codes, at, codes.data());
      std::size_t found = 0;
      for (std::size_t i = 0; i < at.size(); ++i) {
        if (codes[i] == step.none) {
          put_value(column, column.null_code, *out, of[i]);
          continue;
        }
        at[found] = codes[i];
        of[found++] = of[i];
      }
      at.resize(found);
    }
    read_codes(column.codes, at, codes.data());
    for (std::size_t i = 0; i < at.size(); ++i) put_value(column, codes[i], *out, of[i]);
  });
  return out;
}

// --- slices ---------------------------------------------------------------------------------------------------------

// A filter or key with its values from outside of the slice evaluated: they are the same wherever the slice is used.
HeldPredicate Evaluator::captured(const Predicate& predicate, const FramePtr& frame, const SlicePtr& slice) {
  HeldPredicate held;
  held.predicate = predicate;
  held.frame = frame.get();
  held.predicate.expression = replaced(predicate.expression, [&](const NodePtr& n) -> NodePtr {
    if (reads_slice_row(n) || !reads_outside(n)) return nullptr;
    const VectorPtr values = evaluate(n, frame, slice);
    auto node = std::make_shared<Node>();
    node->type = n->type;
    node->span = n->span;
    bool same = values->size() > 0 && values->state[0] != State::overflow;
    for (std::size_t i = 1; i < values->size() && same; ++i)
      same = values->state[i] == values->state[0] && values->value_at(i) == values->value_at(0);
    if (same) {
      node->literal = values->value_at(0);
      return node;
    }
    node->op = Op::name;
    node->variable = next_name_++;
    held.names.emplace(node->variable, values);
    return node;
  });
  return held;
}

SlicePtr Evaluator::over_bridge(TableIndex bridge, const FramePtr& frame, const SlicePtr& slice) {
  SlicePtr& known = frame->bridged[{bridge, slice}];
  if (!known) {
    auto more = std::make_shared<Slice>(*slice);
    more->bridges = with_bridge(std::move(more->bridges), bridge);
    known = std::move(more);
  }
  return known;
}

SlicePtr Evaluator::modified(const Modifiers& m, const FramePtr& frame, const SlicePtr& incoming) {
  if (is_bridge_alone(m)) return over_bridge(m.through->table, frame, incoming);
  auto slice = std::make_shared<Slice>(m.of ? *narrowed(*m.of, frame, incoming) : *incoming);
  if (m.via) slice->roles = with_role(model_, slice->roles, *m.via);
  if (m.through) slice->bridges = with_bridge(std::move(slice->bridges), m.through->table);
  if (m.across) *slice = dropped(*slice, *m.across);
  if (m.during) move(*slice, *m.during, frame);
  for (const NodePtr& condition : m.where) {
    slice->predicates.push_back(captured({PredicateKind::filter, condition, 0, condition->span, 0}, frame, incoming));
  }
  return slice;
}

SlicePtr Evaluator::narrowed(VariableId variable, const FramePtr& frame, const SlicePtr& slice) {
  const auto [at, binding] = find_binding(*frame, variable);
  auto result = std::make_shared<Slice>(binding->slice ? *binding->slice : Slice{});
  std::size_t field = 0;
  for (const Predicate& predicate : narrowing(binding->set, binding->table.value_or(0))) {
    if (predicate.kind == PredicateKind::row) {
      HeldPredicate held;
      held.predicate = predicate;
      held.frame = frame.get();
      held.rows = gathered(binding->rows, map_up(*frame, at));
      result->predicates.push_back(std::move(held));
      continue;
    }
    HeldPredicate held = captured(predicate, frame, slice);
    if (predicate.kind == PredicateKind::key) {
      while (!binding->set->fields[field].identifies) ++field;
      held.key = gathered(binding->fields[field++].values(), map_up(*frame, at));
    }
    result->predicates.push_back(std::move(held));
  }
  return result;
}

Slice Evaluator::dropped(const Slice& slice, const Across& across) const {
  Slice kept;
  kept.roles = slice.roles;
  kept.bridges = slice.bridges;
  for (const HeldPredicate& held : slice.predicates) {
    if (covered(model_, held.predicate, across) != Covered::all) kept.predicates.push_back(held);
  }
  return kept;
}

// What a set of a table's rows sees: `of … via … across …`.
SlicePtr Evaluator::table_slice(const RowSet& set, const FramePtr& frame, const SlicePtr& slice) {
  if (!set.of && !set.via && !set.across) return slice;
  auto own = std::make_shared<Slice>(set.of ? *narrowed(*set.of, frame, slice) : *slice);
  if (set.via) own->roles = with_role(model_, own->roles, *set.via);
  if (set.across) *own = dropped(*own, *set.across);
  return own;
}

// --- periods --------------------------------------------------------------------------------------------------------

void Evaluator::move(Slice& slice, const During& during, const FramePtr& frame) {
  const Calendar& calendar = *model_.calendar;
  const store::Column& day = source_.column(calendar.day);
  // The days of the slice are those of the calendar itself: no bridge leads there.
  auto without_bridges = std::make_shared<Slice>(slice);
  without_bridges->bridges.clear();
  const SlicePtr here = without_bridges;
  std::vector<std::shared_ptr<const CodeRanges>> days;
  if (during.period == Period::shift) {
    days = shifted_days(during, frame, here);
  } else {
    // The first and the last day in the slice are aggregates like any other.
    auto set = std::make_shared<RowSet>();
    set->table = calendar.day.table;
    set->variable = next_name_++;
    auto column = std::make_shared<Node>();
    column->op = Op::column;
    column->type = {TypeKind::date, 0};
    column->variable = set->variable;
    column->column = {calendar.day.table, {}, calendar.day};
    const auto edge = [&](Aggregate kind) {
      auto node = std::make_shared<Node>();
      node->op = Op::aggregate;
      node->type = column->type;
      node->span = during.span;
      node->aggregate = kind;
      node->rows = set;
      node->children = {column};
      return evaluate(node, frame, here);
    };
    const VectorPtr first = edge(Aggregate::min);
    const VectorPtr last = edge(Aggregate::max);
    for (std::size_t i = 0; i < frame->rows; ++i) {
      std::vector<DayRange> ranges;
      if (first->state[i] == State::value) ranges.push_back(period(during, first->narrow[i], last->narrow[i]));
      days.push_back(std::make_shared<const CodeRanges>(codes_of_days(day, ranges)));
    }
  }
  std::erase_if(slice.predicates,
                [&](const HeldPredicate& held) { return replaced_by_during(model_, held.predicate) == Covered::all; });
  HeldPredicate held;
  held.predicate = {PredicateKind::days, nullptr, calendar.day.table, during.span, 0};
  held.frame = frame.get();
  held.days = std::make_shared<const std::vector<std::shared_ptr<const CodeRanges>>>(std::move(days));
  slice.predicates.push_back(std::move(held));
}

// The days that those of the slice move to. Rows of the frame whose days are chosen alike share one list.
std::vector<std::shared_ptr<const CodeRanges>> Evaluator::shifted_days(const During& during, const FramePtr& frame,
                                                                       const SlicePtr& slice) {
  const Calendar& calendar = *model_.calendar;
  const store::Column& day = source_.column(calendar.day);
  PlainRows plain;
  plain.table = calendar.day.table;
  plain.variable = next_name_++;
  plain.slice = slice;
  plain.around = slice;
  const Access found = access(plain, frame);
  std::map<std::vector<std::uint64_t>, std::uint32_t> first_of;
  std::vector<std::uint32_t> representative(frame->rows);
  std::vector<std::uint32_t> chosen;
  const bool alike = found.residual.empty() && found.days.empty() && !found.range;
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    std::vector<std::uint64_t> key;
    for (const Access::Key& k : found.keys) key.push_back(k.at(i));
    if (!alike) key.push_back(i);
    const auto [at, fresh] = first_of.try_emplace(std::move(key), static_cast<std::uint32_t>(chosen.size()));
    if (fresh) chosen.push_back(i);
    representative[i] = at->second;
  }
  auto sub = std::make_shared<Frame>();
  sub->rows = chosen.size();
  sub->parent = frame;
  sub->up = std::make_shared<const std::vector<std::uint32_t>>(chosen);
  auto set = std::make_shared<RowSet>();
  set->table = plain.table;
  set->variable = plain.variable;
  set->span = during.span;
  const FramePtr pairs = rows(set, sub, slice);
  const auto& numbers = *pairs->bindings.at(plain.variable).rows;
  std::vector<std::vector<std::int64_t>> present(chosen.size());
  for (std::size_t i = 0; i < pairs->rows; ++i) {
    const std::uint64_t code = day.codes.at(numbers[i]);
    if (code != day.null_code) present[(*pairs->up)[i]].push_back(day.exact_of(code));  // null: of no day
  }
  std::vector<std::shared_ptr<const CodeRanges>> lists;
  for (std::vector<std::int64_t>& list : present) {
    std::sort(list.begin(), list.end());
    lists.push_back(std::make_shared<const CodeRanges>(codes_of_days(day, shifted(during, list))));
  }
  std::vector<std::shared_ptr<const CodeRanges>> days;
  days.reserve(frame->rows);
  for (const std::uint32_t r : representative) days.push_back(lists[r]);
  return days;
}

}  // namespace juniper::engine
