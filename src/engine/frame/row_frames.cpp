// Sets of rows, written out for all rows of a frame.
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <limits>
#include <numeric>

#include "base/prefetch.h"
#include "base/sort.h"
#include "engine/frame/evaluator.h"
#include "engine/frame/numbering.h"
#include "engine/vector/column_values.h"

namespace juniper::engine {

using namespace language;

namespace {

using Codes = std::vector<std::uint64_t>;

// Where the rows of each row of the frame above begin; one more at the end.
std::vector<std::size_t> begins_of(const Frame& pairs, std::size_t above) {
  std::vector<std::size_t> begins(above + 1, 0);
  for (std::size_t i = 0; i < pairs.rows; ++i) ++begins[(*pairs.up)[i] + 1];
  std::partial_sum(begins.begin(), begins.end(), begins.begin());
  return begins;
}

Binding gathered(const Binding& binding, const RowMap& map) {
  Binding made = binding;
  made.rows = engine::gathered(binding.rows, map);
  if (!map) return made;
  for (FieldValues& field : made.fields)
    field = FieldValues([field, map] { return engine::gathered(field.values(), map); });
  return made;
}

Value value_of(const Vector& values, std::size_t row) {
  return values.value_at(row);
}

}  // namespace

FramePtr Evaluator::rows(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const Step step(*this, set->span, frame->rows);
  step.get().way = ExplainWay::rows;
  FramePtr made = written_out(set, frame, slice);
  step.get().rows_out = made->rows;
  return made;
}

FramePtr Evaluator::written_out(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  switch (set->kind) {
    case RowsKind::table:
      return table_rows(set, *plain(set, frame, slice), frame);
    case RowsKind::members:
      if (const auto rows = plain(set, frame, slice)) return table_rows(set, *rows, frame);
      return members(set, frame);
    case RowsKind::named:
      return named(set, frame);
    case RowsKind::filtered:
      return filtered(set, frame, slice);
    case RowsKind::extended:
      return extended(set, frame, slice);
    case RowsKind::sorted:
    case RowsKind::top:
      return ordered(set, frame, slice);
    case RowsKind::days:
      return days(set, frame, slice);
    case RowsKind::distinct:
    case RowsKind::grouped:
      return groups(set, frame, slice);
    case RowsKind::unite:
    case RowsKind::except:
    case RowsKind::intersect:
      return combined(set, frame, slice);
  }
  return nullptr;
}

// Each day from the first to the last; none where there is no first.
FramePtr Evaluator::days(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const VectorPtr first = evaluate(set->values[0], frame, slice);
  const VectorPtr last = evaluate(set->values[1], frame, slice);
  std::vector<std::uint32_t> up;
  auto days = std::make_shared<Vector>();
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    if (first->state[i] != State::value || last->state[i] != State::value) continue;
    for (std::int64_t day = first->narrow[i]; day <= last->narrow[i]; ++day) {
      up.push_back(i);
      days->narrow.push_back(day);
    }
  }
  days->reset(Repr::narrow, up.size());
  Binding binding;
  binding.set = set;
  binding.slice = slice;
  binding.around = slice;
  binding.fields.emplace_back(VectorPtr(std::move(days)));
  return expanded(frame, std::move(up), set->variable, std::move(binding));
}

FramePtr Evaluator::expanded(const FramePtr& frame, std::vector<std::uint32_t> up, VariableId variable,
                             Binding binding) const {
  source_.check();
  auto made = std::make_shared<Frame>();
  made->rows = up.size();
  made->parent = frame;
  made->up = std::make_shared<const std::vector<std::uint32_t>>(std::move(up));
  made->bindings.emplace(variable, std::move(binding));
  return made;
}

// Some of the rows of pairs, in the given order.
FramePtr Evaluator::selected(const FramePtr& pairs, VariableId variable, const std::vector<std::uint32_t>& keep,
                             const RowSetPtr& set) const {
  const auto map = std::make_shared<const std::vector<std::uint32_t>>(keep);
  std::vector<std::uint32_t> up(keep.size());
  for (std::size_t i = 0; i < keep.size(); ++i) up[i] = (*pairs->up)[keep[i]];
  Binding binding = gathered(pairs->bindings.begin()->second, map);
  if (set) binding.set = set;
  if (binding.members) {
    auto members = std::make_shared<Members>();
    members->frame = binding.members->frame;
    members->begins.push_back(0);
    for (const std::uint32_t i : keep) {
      const auto& from = *binding.members;
      members->rows.insert(members->rows.end(), from.rows.begin() + static_cast<std::ptrdiff_t>(from.begins[i]),
                           from.rows.begin() + static_cast<std::ptrdiff_t>(from.begins[i + 1]));
      members->begins.push_back(members->rows.size());
    }
    binding.members = std::move(members);
  }
  return expanded(pairs->parent, std::move(up), variable, std::move(binding));
}

// --- a table's rows -------------------------------------------------------------------------------------------------

// The rows of a table in the order of its key, or as they stand.
const std::vector<std::uint32_t>& Evaluator::row_order(TableIndex table) {
  source_.require_rows(table);
  auto& order = row_orders_[table];
  const std::uint64_t rows = source_.rows(table);
  if (order.size() == rows) return order;
  order.resize(rows);
  std::iota(order.begin(), order.end(), 0U);
  const auto settling = source_.settling_column(table);
  if (!settling) return order;
  const store::Column& column = source_.column({table, *settling});
  const std::vector<std::uint64_t> codes = column.codes.decoded();
  if (column.layout == store::Layout::bits) {
    std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
      return compare(column.value_of(codes[a]), column.value_of(codes[b])) < 0;
    });
  } else if (!std::is_sorted(codes.begin(), codes.end())) {
    order = base::numbers_by_key(rows, static_cast<unsigned>(std::bit_width(column.null_code)),
                                 [&](std::uint32_t row) { return codes[row]; });
  }
  return order;
}

// The rows that pass what is the same for all rows of the frame and that have keys which some of these want, in the
// table's order, with the codes of the keys.
FoundRows Evaluator::rows_of_frame(const Access& access) {
  source_.require_rows(access.table);
  RowsRequest request;
  request.table = access.table;
  request.conditions = access.filters;
  if (access.where) split_conjunction(access.where, request.conditions);
  for (const Access::Key& key : access.keys) request.keys.push_back(key.key);
  request.wanted = access.wanted_codes();
  // The table's order, where that is another than the one in which its rows stand.
  const auto settling = source_.settling_column(access.table);
  if (settling) request.keys.push_back(ScanKey::of(source_, {access.table, {}, {access.table, *settling}}));
  rows_scanned_ += source_.rows(access.table);
  FoundRows found = find_rows(source_, request, threads_);
  if (found.overflow) {
    const NodePtr& condition = access.where ? access.where : access.filters.front();
    fail(condition->span, "JR-701", "this condition computes a number that does not fit 128 bits",
         "narrow the rows first, or use reals");
  }
  if (!settling) return found;
  const std::vector<std::uint64_t> places = std::move(found.codes.back());
  found.codes.pop_back();
  const store::Column& column = source_.column({access.table, *settling});
  const auto before = [&](std::uint32_t a, std::uint32_t b) {
    if (column.layout != store::Layout::bits) return places[a] < places[b];
    return compare(column.value_of(places[a]), column.value_of(places[b])) < 0;
  };
  std::vector<std::uint32_t> order(found.rows.size());
  std::iota(order.begin(), order.end(), 0U);
  if (std::is_sorted(order.begin(), order.end(), before)) return found;
  std::stable_sort(order.begin(), order.end(), before);
  const auto arrange = [&](auto& numbers) {
    auto arranged = numbers;
    for (std::size_t i = 0; i < order.size(); ++i) arranged[i] = numbers[order[i]];
    numbers = std::move(arranged);
  };
  arrange(found.rows);
  for (auto& codes : found.codes) arrange(codes);
  return found;
}

void Evaluator::for_pairs(const Access& access, const PlainRows& rows, std::size_t most_pairs, const TakePairs& take) {
  FoundRows found = rows_of_frame(access);
  for (std::size_t k = 0; k < access.keys.size(); ++k) {
    if (access.keys[k].bridge) found = by_parts(found, k, *access.keys[k].bridge);
  }
  // The rows of each combination of keys that is wanted stand together, in the table's order.
  Numbering numbers(access.keys.size());
  std::vector<std::uint32_t> number_of_frame_row(access.frame->rows);
  for (std::uint32_t i = 0; i < access.frame->rows; ++i)
    number_of_frame_row[i] = numbers.add([&](std::size_t k) { return access.keys[k].at(i); });
  std::vector<std::uint32_t> number_of_row(found.rows.size());
  std::vector<std::size_t> begins(numbers.size() + 1, 0);
  for (std::size_t i = 0; i < found.rows.size(); ++i) {
    number_of_row[i] = numbers.find([&](std::size_t k) { return found.codes[k][i]; });
    if (number_of_row[i] != Numbering::none) ++begins[number_of_row[i] + 1];
  }
  std::partial_sum(begins.begin(), begins.end(), begins.begin());
  std::vector<std::uint32_t> listed(begins.back());
  std::vector<std::size_t> ends(begins.begin(), begins.end() - 1);
  for (std::size_t i = 0; i < found.rows.size(); ++i) {
    if (number_of_row[i] != Numbering::none) listed[ends[number_of_row[i]]++] = found.rows[i];
  }
  SharedCodes range;
  if (access.range) range = codes_of(access.range->key, access.table);
  std::vector<SharedCodes> days;
  for (const Access::Days& d : access.days) days.push_back(codes_of(ScanKey::of(source_, d.day), access.table));

  std::vector<std::uint32_t> up;
  std::vector<std::uint64_t> numbers_of_rows;
  const auto flush = [&] {
    Binding binding;
    binding.table = access.table;
    binding.rows = std::make_shared<const std::vector<std::uint64_t>>(std::move(numbers_of_rows));
    binding.slice = rows.slice;
    const std::size_t written = up.size();
    take(residual_rows(access, expanded(access.frame, std::move(up), access.variable, std::move(binding))), written);
    up = {};
    numbers_of_rows = {};
  };
  constexpr std::size_t rows_between_checks = 65'536;
  std::size_t unchecked = 0;
  for (std::uint32_t i = 0; i < access.frame->rows; ++i) {
    const std::uint32_t number = number_of_frame_row[i];
    if (unchecked += begins[number + 1] - begins[number]; unchecked >= rows_between_checks) {
      source_.check();
      unchecked = 0;
    }
    for (std::size_t at = begins[number]; at < begins[number + 1]; ++at) {
      const std::uint32_t row = listed[at];
      if (access.range && !access.range->wanted.has(i, (*range)[row])) continue;
      bool in_days = true;
      for (std::size_t d = 0; d < days.size(); ++d) in_days = in_days && access.days[d].wanted.has(i, (*days[d])[row]);
      if (!in_days) continue;
      up.push_back(i);
      numbers_of_rows.push_back(row);
    }
    if (up.size() >= most_pairs) flush();
  }
  flush();
}

FramePtr Evaluator::residual_rows(const Access& access, FramePtr pairs) {
  for (const NodePtr& condition : access.residual) {
    if (pairs->rows == 0) break;
    const VectorPtr values = evaluate(condition, pairs, access.around);
    const RowMap map = map_up(*pairs, access.frame.get());
    std::vector<std::uint32_t> keep;
    for (std::uint32_t i = 0; i < pairs->rows; ++i) {
      if (values->state[i] == State::overflow) (*access.poisoned)[map ? (*map)[i] : i] = 1;
      if (values->is_true(i)) keep.push_back(i);
    }
    if (keep.size() < pairs->rows) pairs = selected(pairs, access.variable, keep, nullptr);
  }
  return pairs;
}

FramePtr Evaluator::table_rows(const RowSetPtr& set, const PlainRows& plain, const FramePtr& frame) {
  const Access found = access(plain, frame);
  FramePtr result;
  for_pairs(found, plain, std::numeric_limits<std::size_t>::max(), [&](const FramePtr& pairs, std::size_t) {
    // The names that predicates captured are of no more use: the rows stand below the frame itself.
    Binding binding = pairs->bindings.at(found.variable);
    binding.set = set;
    result = expanded(frame, *pairs->up, set->variable, std::move(binding));
  });
  if (std::find(found.poisoned->begin(), found.poisoned->end(), 1) != found.poisoned->end())
    fail(set->span, "JR-701", "a condition over these rows computes a number that does not fit 128 bits", "");
  return result;
}

// --- steps ----------------------------------------------------------------------------------------------------------

FramePtr Evaluator::filtered(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  if (const auto rows = plain(set, frame, slice); rows && rows->order.empty()) return table_rows(set, *rows, frame);
  const FramePtr pairs = rows(set->input, frame, slice);
  const VectorPtr values = evaluate(set->condition, pairs, slice);
  std::vector<std::uint32_t> keep;
  for (std::uint32_t i = 0; i < pairs->rows; ++i) {
    if (values->state[i] == State::overflow)
      fail(set->condition->span, "JR-701", "this condition computes a number that does not fit 128 bits", "");
    if (values->is_true(i)) keep.push_back(i);
  }
  return selected(pairs, set->variable, keep, set);
}

FramePtr Evaluator::extended(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  FramePtr pairs = rows(set->input, frame, slice);
  for (const NodePtr& value : set->values) {
    const VectorPtr values = evaluate(value, pairs, slice);
    auto wider = std::make_shared<Frame>();
    wider->rows = pairs->rows;
    wider->parent = pairs->parent;
    wider->up = pairs->up;
    Binding binding = pairs->bindings.at(set->variable);
    binding.set = set;
    binding.fields.emplace_back(values);
    wider->bindings.emplace(set->variable, std::move(binding));
    pairs = std::move(wider);
  }
  return pairs;
}

// Sorted by keys; for `top`, cut off behind the last that ties with the n-th.
FramePtr Evaluator::ordered(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const FramePtr pairs = rows(set->input, frame, slice);
  std::vector<Codes> codes;
  for (std::size_t k = 0; k < set->values.size(); ++k) {
    const Encoding encoding(*evaluate(set->values[k], pairs, slice));
    if (encoding.overflowed()) fail_key(set->values[k]->span);
    Codes key = *encoding.codes();
    if (set->descending[k]) {
      for (std::uint64_t& code : key) code = code == encoding.null_code() ? code : encoding.null_code() - 1 - code;
    }
    codes.push_back(std::move(key));
  }
  const auto begins = begins_of(*pairs, frame->rows);
  std::vector<std::uint32_t> order(pairs->rows);
  std::iota(order.begin(), order.end(), 0U);
  const auto compare_keys = [&](std::uint32_t a, std::uint32_t b) {
    for (const Codes& key : codes) {
      if (key[a] != key[b]) return key[a] < key[b] ? -1 : 1;
    }
    return 0;
  };
  std::vector<std::uint32_t> keep;
  for (std::size_t i = 0; i < frame->rows; ++i) {
    const auto begin = order.begin() + static_cast<std::ptrdiff_t>(begins[i]);
    const auto end = order.begin() + static_cast<std::ptrdiff_t>(begins[i + 1]);
    std::stable_sort(begin, end, [&](std::uint32_t a, std::uint32_t b) { return compare_keys(a, b) < 0; });
    auto last = end;
    if (set->kind == RowsKind::top && static_cast<std::uint64_t>(end - begin) > set->count) {
      last = begin + static_cast<std::ptrdiff_t>(set->count);
      while (last != end && compare_keys(*last, *(last - 1)) == 0) ++last;
      if (static_cast<std::uint64_t>(last - begin) > set->count)
        notes_.insert(fmt::format("ties at the cut of `top {}` are all kept: some sets have more rows", set->count));
    }
    keep.insert(keep.end(), begin, last);
  }
  return selected(pairs, set->variable, keep, set);
}

// --- groups ---------------------------------------------------------------------------------------------------------

FramePtr Evaluator::groups(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  FramePtr made;
  const auto rows = plain(set->input, frame, slice);
  const bool scannable = rows && std::all_of(set->values.begin(), set->values.end(),
                                             [&](const NodePtr& value) { return is_of_table(value, rows->variable); });
  if (scannable) made = scanned_groups(set, *rows, frame, slice);
  if (!made) made = written_groups(set, frame, slice);
  for (const NodePtr& result : set->results) {
    const VectorPtr values = evaluate(result, made, slice);
    auto wider = std::make_shared<Frame>();
    wider->rows = made->rows;
    wider->parent = made->parent;
    wider->up = made->up;
    wider->known = made->known;
    Binding binding = made->bindings.at(set->variable);
    binding.fields.emplace_back(values);
    wider->bindings.emplace(set->variable, std::move(binding));
    made = std::move(wider);
  }
  return made;
}

namespace {

// Aggregates over nothing but a group's own rows, among what is computed for each group.
void collect_of_members(const NodePtr& node, VariableId group, std::vector<NodePtr>& found) {
  if (node->op == Op::aggregate) {
    if (node->rows->kind == RowsKind::members && node->rows->group == group) found.push_back(node);
    return;
  }
  if (Evaluator::is_leaf(*node)) return;
  for (const NodePtr& child : node->children) collect_of_members(child, group, found);
}

}  // namespace

// The groups of a scan in the order of the codes of all keys but the first few, for each combination of those.
class SortedGroups {
 public:
  SortedGroups(std::shared_ptr<const ScanResult> scan, std::size_t outer)
      : scan_(std::move(scan)), groups_(scan_->groupings[0]), outer_(outer) {
    const KeyLayout& layout = groups_.layout;
    PackedKey codes_of_outer = 0;
    for (std::size_t k = 0; k < outer; ++k)
      codes_of_outer = layout.with(codes_of_outer, k, layout.code(~PackedKey{0}, k));
    std::vector<std::uint32_t> numbers;
    numbers.reserve(groups_.keys.size());
    groups_.keys.visit([&](const auto& keys) {
      PackedKey before = 0;
      for (const PackedKey key : keys) {
        const PackedKey of_outer = key & codes_of_outer;
        // Neighbours often have the same.
        if (numbers.empty() || of_outer != before) {
          numbers.push_back(numbers_.try_emplace(of_outer, static_cast<std::uint32_t>(numbers_.size())).first->second);
          before = of_outer;
        } else {
          numbers.push_back(numbers.back());
        }
      }
    });
    sort(numbers);
    begins_.assign(numbers_.size() + 1, 0);
    for (const std::uint32_t number : numbers) ++begins_[number + 1];
    std::partial_sum(begins_.begin(), begins_.end(), begins_.begin());
  }

  bool are_of(const std::shared_ptr<const ScanResult>& scan, std::size_t outer) const {
    return scan_ == scan && outer_ == outer;
  }
  // The groups with these codes of the first keys.
  template <class CodeOf>
  std::span<const GroupIndex> of(const CodeOf& code_of) const {
    PackedKey key = 0;
    for (std::size_t k = 0; k < outer_; ++k) {
      const std::uint64_t code = code_of(k);
      if (code == Access::never) return {};
      key = groups_.layout.with(key, k, code);
    }
    const auto number = numbers_.find(key);
    if (number == numbers_.end()) return {};
    const std::size_t begin = begins_[number->second];
    return std::span(order_).subspan(begin, begins_[number->second + 1] - begin);
  }

 private:
  void sort(const std::vector<std::uint32_t>& numbers) {
    const KeyLayout& layout = groups_.layout;
    unsigned own_bits = 0;
    for (std::size_t k = outer_; k < layout.columns(); ++k) own_bits += layout.width(k);
    const unsigned bits =
        own_bits + static_cast<unsigned>(std::bit_width(std::max<std::size_t>(numbers_.size(), 1) - 1));
    if (bits <= 96) {
      // The combination's number, then the codes with the first key highest.
      groups_.keys.visit([&](const auto& keys) {
        order_ = base::numbers_by_key(numbers.size(), bits, [&](GroupIndex g) {
          base::uint128 own = numbers[g];
          for (std::size_t k = outer_; k < layout.columns(); ++k)
            own = own << layout.width(k) | layout.code(keys[g], k);
          return own;
        });
      });
      return;
    }
    order_.resize(numbers.size());
    std::iota(order_.begin(), order_.end(), GroupIndex{0});
    std::sort(order_.begin(), order_.end(), [&](GroupIndex a, GroupIndex b) {
      if (numbers[a] != numbers[b]) return numbers[a] < numbers[b];
      for (std::size_t k = outer_; k < layout.columns(); ++k) {
        const auto [x, y] = std::pair(layout.code(groups_.keys[a], k), layout.code(groups_.keys[b], k));
        if (x != y) return x < y;
      }
      return false;
    });
  }

  std::shared_ptr<const ScanResult> scan_;
  const Groups& groups_;  // its first
  std::size_t outer_;
  boost::unordered_flat_map<PackedKey, std::uint32_t, HashPackedKey> numbers_;  // of combinations of the first keys
  std::vector<GroupIndex> order_;
  std::vector<std::size_t> begins_;
};

// Groups of a table's rows by one scan for all rows of the frame, in which what is asked for of each group is computed,
// too; null when the keys do not allow it.
FramePtr Evaluator::scanned_groups(const RowSetPtr& set, const PlainRows& plain, const FramePtr& frame,
                                   const SlicePtr& slice) {
  const Access found = access(plain, frame);
  if (found.range || !found.days.empty() || !found.residual.empty()) return nullptr;
  ScanRequest request;
  request.table = found.table;
  request.filters = found.filters;
  if (found.where) request.filters.push_back(found.where);
  for (const Access::Key& key : found.keys) request.keys.push_back(key.key);
  std::vector<NodePtr> values;
  for (const NodePtr& value : set->values) {
    values.push_back(of_slice_row(value, plain.variable, plain.slice->roles));
    request.keys.push_back(ordered_key(values.back(), found.table));
  }
  if (!layout_of(request.keys).fits() || !found.layout_of_parts(request.keys).fits()) return nullptr;
  if (found.has_bridges()) request.merging = Merging::one_by_one;
  request.groupings.emplace_back(request.keys.size());
  std::iota(request.groupings[0].begin(), request.groupings[0].end(), 0U);
  if (std::find(found.poisoned->begin(), found.poisoned->end(), 1) != found.poisoned->end()) return nullptr;
  std::vector<NodePtr> asked;
  for (const NodePtr& result : set->results) collect_of_members(result, set->variable, asked);
  std::erase_if(asked, [&](const NodePtr& node) {
    return is_order_told(*node) ||
           !std::all_of(node->children.begin(), node->children.end(),
                        [&](const NodePtr& value) { return is_of_table(value, node->rows->variable); });
  });
  for (const NodePtr& node : asked) {
    ScanAggregate aggregate{node, {}, {}, nullptr};
    for (const NodePtr& value : node->children)
      aggregate.values.push_back(of_slice_row(value, node->rows->variable, plain.slice->roles));
    request.aggregates.push_back(std::move(aggregate));
  }
  const auto result = over_bridges(found, scan_once(request));
  if (result->filter_overflow) fail_filter(set->span);
  // The groups of each combination of the frame's keys, in the order of their own.
  const Groups& scanned = result->groupings[0];
  if (!sorted_groups_ || !sorted_groups_->are_of(result, found.keys.size()))
    sorted_groups_ = std::make_shared<const SortedGroups>(result, found.keys.size());
  std::vector<std::span<const GroupIndex>> of_rows;
  std::size_t count = 0;
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    of_rows.push_back(sorted_groups_->of([&](std::size_t k) { return found.keys[k].at(i); }));
    count += of_rows.back().size();
  }
  std::vector<std::uint32_t> up;
  up.reserve(count);
  const auto taken = std::make_shared<std::vector<GroupIndex>>();
  taken->reserve(count);
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    up.insert(up.end(), of_rows[i].size(), i);
    taken->insert(taken->end(), of_rows[i].begin(), of_rows[i].end());
  }
  Binding binding;
  binding.set = set;
  binding.slice = plain.slice;
  binding.around = plain.around;
  for (std::size_t k = 0; k < values.size(); ++k) {
    const bool is_column = request.keys[found.keys.size() + k].kind != ScanKey::Kind::given;
    binding.fields.emplace_back([this, result, taken, key = found.keys.size() + k, value = values[k],
                                 table = found.table,
                                 is_column] { return field_of_groups(*result, *taken, key, value, table, is_column); });
  }
  const FramePtr made = expanded(frame, std::move(up), set->variable, std::move(binding));
  for (std::size_t a = 0; a < asked.size(); ++a) {
    made->known.emplace(std::pair(canonical(model_, asked[a]), slice),
                        std::make_shared<const Vector>(scanned.aggregates[a]->result(*taken)));
  }
  return made;
}

// The values of one key of some groups: those of a column, or of an expression over the rows of a table.
VectorPtr Evaluator::field_of_groups(const ScanResult& scan, const std::vector<GroupIndex>& taken, std::size_t key,
                                     const NodePtr& value, TableIndex table, bool is_column) {
  const Groups& groups = scan.groupings[0];
  Codes codes(taken.size());
  groups.keys.visit([&](const auto& keys) {
    base::for_each_ahead(
        taken.size(), [&](std::size_t i) { return keys.data() + taken[i]; },
        [&](std::size_t i) { codes[i] = groups.layout.code(keys[taken[i]], key); });
  });
  if (!is_column) return std::make_shared<const Vector>(encoded(value, table).decode(codes));
  const store::Column& column = source_.column(value->column.column);
  auto field = std::make_shared<Vector>();
  field->reset(repr_of(column), codes.size());
  for (std::size_t i = 0; i < codes.size(); ++i) put_value(column, codes[i], *field, i);
  return field;
}

// Groups of rows that are written out.
FramePtr Evaluator::written_groups(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const FramePtr pairs = rows(set->input, frame, slice);
  std::vector<std::unique_ptr<Encoding>> encodings;
  for (const NodePtr& value : set->values) {
    encodings.push_back(std::make_unique<Encoding>(*evaluate(value, pairs, slice)));
    if (encodings.back()->overflowed()) fail_key(value->span);
  }
  std::vector<std::uint32_t> order(pairs->rows);
  std::iota(order.begin(), order.end(), 0U);
  const auto before = [&](std::uint32_t a, std::uint32_t b) {
    if ((*pairs->up)[a] != (*pairs->up)[b]) return (*pairs->up)[a] < (*pairs->up)[b];
    for (const auto& encoding : encodings) {
      const auto [x, y] = std::pair((*encoding->codes())[a], (*encoding->codes())[b]);
      if (x != y) return x < y;
    }
    return false;
  };
  std::stable_sort(order.begin(), order.end(), before);
  auto members = std::make_shared<Members>();
  members->frame = pairs;
  members->rows = order;
  std::vector<std::uint32_t> up;
  std::vector<Codes> codes(encodings.size());
  for (std::size_t i = 0; i < order.size(); ++i) {
    if (i > 0 && !before(order[i - 1], order[i])) continue;
    members->begins.push_back(i);
    up.push_back((*pairs->up)[order[i]]);
    for (std::size_t k = 0; k < encodings.size(); ++k) codes[k].push_back((*encodings[k]->codes())[order[i]]);
  }
  members->begins.push_back(order.size());
  Binding binding;
  binding.set = set;
  binding.slice = pairs->bindings.at(set->input->variable).slice;
  binding.members = std::move(members);
  for (std::size_t k = 0; k < encodings.size(); ++k)
    binding.fields.emplace_back(std::make_shared<const Vector>(encodings[k]->decode(codes[k])));
  return expanded(frame, std::move(up), set->variable, std::move(binding));
}

FramePtr Evaluator::members(const RowSetPtr& set, const FramePtr& frame) {
  const auto [at, binding] = find_binding(*frame, set->group);
  const RowMap map = map_up(*frame, at);
  const Members& members = *binding->members;
  std::vector<std::uint32_t> up;
  std::vector<std::uint32_t> from;
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    const std::uint32_t group = map ? (*map)[i] : i;
    for (std::size_t m = members.begins[group]; m < members.begins[group + 1]; ++m) {
      up.push_back(i);
      from.push_back(members.rows[m]);
    }
  }
  Binding rows = gathered(members.frame->bindings.begin()->second,
                          std::make_shared<const std::vector<std::uint32_t>>(std::move(from)));
  rows.set = set;
  return expanded(frame, std::move(up), set->variable, std::move(rows));
}

// A set of rows of `let`, for the rows of a frame below.
FramePtr Evaluator::named(const RowSetPtr& set, const FramePtr& frame) {
  const Frame* at = frame.get();
  while (!at->sets.contains(set->name)) at = at->parent.get();
  const FramePtr& pairs = at->sets.at(set->name);
  const RowMap map = map_up(*frame, at);
  const auto begins = begins_of(*pairs, at->rows);
  std::vector<std::uint32_t> up;
  std::vector<std::uint32_t> from;
  for (std::uint32_t i = 0; i < frame->rows; ++i) {
    const std::uint32_t row = map ? (*map)[i] : i;
    for (std::size_t m = begins[row]; m < begins[row + 1]; ++m) {
      up.push_back(i);
      from.push_back(static_cast<std::uint32_t>(m));
    }
  }
  Binding rows =
      gathered(pairs->bindings.begin()->second, std::make_shared<const std::vector<std::uint32_t>>(std::move(from)));
  rows.set = set;
  rows.members = nullptr;
  return expanded(frame, std::move(up), set->variable, std::move(rows));
}

// --- two sets -------------------------------------------------------------------------------------------------------

namespace {

// Codes that tell the rows of two frames apart by value, in the order of their values: a number for each column.
std::vector<std::pair<Codes, Codes>> common_codes(const Binding& a, const Binding& b) {
  std::vector<std::pair<Codes, Codes>> columns;
  for (std::size_t f = 0; f < a.fields.size(); ++f) {
    const Vector& x = *a.fields[f].values();
    const Vector& y = *b.fields[f].values();
    Vector both;
    const bool wide = x.repr == Repr::wide || y.repr == Repr::wide;
    both.reset(wide ? Repr::wide : x.repr, x.size() + y.size());
    for (std::size_t i = 0; i < both.size(); ++i) {
      const Vector& from = i < x.size() ? x : y;
      const std::size_t row = i < x.size() ? i : i - x.size();
      if (from.state[row] != State::value) {
        both.state[i] = State::null;
      } else {
        both.set(i, value_of(from, row));
      }
    }
    const Encoding encoding(both);
    const auto middle = encoding.codes()->begin() + static_cast<std::ptrdiff_t>(x.size());
    columns.emplace_back(Codes(encoding.codes()->begin(), middle), Codes(middle, encoding.codes()->end()));
  }
  return columns;
}

}  // namespace

FramePtr Evaluator::combined(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  const FramePtr a = rows(set->input, frame, slice);
  const FramePtr b = rows(set->other, frame, slice);
  const Binding& left = a->bindings.at(set->input->variable);
  const Binding& right = b->bindings.at(set->other->variable);
  const auto overflows = [](const auto& field) {
    const std::vector<State>& states = field.values()->state;
    return std::find(states.begin(), states.end(), State::overflow) != states.end();
  };
  if (std::any_of(left.fields.begin(), left.fields.end(), overflows) ||
      std::any_of(right.fields.begin(), right.fields.end(), overflows))
    fail_key(set->span);
  auto columns = common_codes(left, right);
  if (left.table) {
    const auto& order = row_order(*left.table);
    std::vector<std::uint64_t> place(order.size());
    for (std::size_t i = 0; i < order.size(); ++i) place[order[i]] = i;
    const auto places = [&](const Binding& binding) {
      Codes codes;
      for (const std::uint64_t row : *binding.rows) codes.push_back(place[row]);
      return codes;
    };
    columns.insert(columns.begin(), {places(left), places(right)});
  }
  // The rows of both, each as the frame's row and its codes; those of `a` have the smaller numbers.
  const auto row_of = [&](std::uint32_t i) {
    const bool first = i < a->rows;
    Codes row{first ? (*a->up)[i] : (*b->up)[i - a->rows]};
    for (const auto& [x, y] : columns) row.push_back(first ? x[i] : y[i - a->rows]);
    return row;
  };
  const auto parts_of = [](const Codes& row) { return [&row](std::size_t k) { return row[k]; }; };
  Numbering in_b(columns.size() + 1);
  for (std::uint32_t i = 0; i < b->rows; ++i) {
    const Codes row = row_of(static_cast<std::uint32_t>(a->rows) + i);
    in_b.add(parts_of(row));
  }
  std::vector<std::pair<Codes, std::uint32_t>> kept;
  Numbering seen(columns.size() + 1);
  const auto all = static_cast<std::uint32_t>(a->rows + (set->kind == RowsKind::unite ? b->rows : 0));
  for (std::uint32_t i = 0; i < all; ++i) {
    Codes row = row_of(i);
    const bool also = in_b.find(parts_of(row)) != Numbering::none;
    if (set->kind == RowsKind::except && also) continue;
    if (set->kind == RowsKind::intersect && !also) continue;
    if (seen.find(parts_of(row)) != Numbering::none) continue;
    seen.add(parts_of(row));
    kept.emplace_back(std::move(row), i);
  }
  std::sort(kept.begin(), kept.end());
  std::vector<std::uint32_t> up;
  Binding binding;
  binding.set = set;
  binding.table = left.table;
  binding.slice = left.slice;
  std::vector<std::uint64_t> numbers;
  for (const auto& [row, i] : kept) {
    up.push_back(static_cast<std::uint32_t>(row[0]));
    if (left.table) numbers.push_back(i < a->rows ? (*left.rows)[i] : (*right.rows)[i - a->rows]);
  }
  if (left.table) binding.rows = std::make_shared<const std::vector<std::uint64_t>>(std::move(numbers));
  for (std::size_t f = 0; f < left.fields.size(); ++f) {
    const bool wide = left.fields[f].values()->repr == Repr::wide || right.fields[f].values()->repr == Repr::wide;
    auto field = std::make_shared<Vector>();
    field->reset(wide ? Repr::wide : left.fields[f].values()->repr, kept.size());
    for (std::size_t k = 0; k < kept.size(); ++k) {
      const std::uint32_t i = kept[k].second;
      field->set(
          k, i < a->rows ? value_of(*left.fields[f].values(), i) : value_of(*right.fields[f].values(), i - a->rows));
    }
    binding.fields.emplace_back(VectorPtr(std::move(field)));
  }
  return expanded(frame, std::move(up), set->variable, std::move(binding));
}

}  // namespace juniper::engine
