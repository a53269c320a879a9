// Which rows of a table a slice allows, for all rows of a frame at once.
#include <algorithm>
#include <numeric>

#include "base/parallel.h"
#include "engine/asked/live_tables.h"
#include "engine/frame/evaluator.h"
#include "engine/vector/column_values.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

bool Evaluator::reads_slice_row(const NodePtr& node) {
  bool reads = false;
  walk_scalars(node, [&](const Node& n) { reads = reads || (n.op == Op::column && n.variable == slice_row); });
  return reads;
}

bool Evaluator::reads_outside(const NodePtr& node) {
  bool reads = false;
  walk_scalars(
      node, [&](const Node& n) { reads = reads || (is_leaf(n) && !(n.op == Op::column && n.variable == slice_row)); });
  return reads;
}

bool Evaluator::is_of_table(const NodePtr& node, VariableId variable) {
  bool plain = true;
  walk(node, [&](const Node& n) { plain = plain && (!is_leaf(n) || (n.op == Op::column && n.variable == variable)); });
  return plain;
}

// A condition on a slice as seen from a table's rows.
NodePtr Evaluator::seen_from(const NodePtr& node, TableIndex table, const Roles& roles) const {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || n->variable != slice_row) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->column = *model_.rebase(n->column, table, roles).ref;
    return copy;
  });
}

// An expression over the rows of a loop as one over slice_row.
NodePtr Evaluator::of_slice_row(const NodePtr& node, VariableId variable, const Roles& roles) const {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || n->variable != variable) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->variable = slice_row;
    copy->column = routed(model_, n->column, roles);
    return copy;
  });
}

namespace {

NodePtr with_variable(const NodePtr& node, VariableId from, VariableId to) {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    // Within these, slice_row is that of another slice.
    if (from == slice_row && (n->op == Op::aggregate || n->op == Op::modified || n->op == Op::let)) return n;
    if (n->op != Op::column || n->variable != from) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->variable = to;
    return copy;
  });
}

bool mentions_variable(const NodePtr& node, VariableId variable) {
  bool found = false;
  const std::function<void(const RowSetPtr&)> look = [&](const RowSetPtr& rows) {
    if (!rows) return;
    found = found || rows->of == variable || rows->group == variable;
    look(rows->input);
    look(rows->other);
  };
  walk(node, [&](const Node& n) {
    found = found || ((n.op == Op::column || n.op == Op::field) && n.variable == variable) ||
            (n.modifiers && n.modifiers->of == variable);
    look(n.rows);
    for (const Let& let : n.lets) look(let.rows);
  });
  return found;
}

}  // namespace

// --- plain sets of rows ---------------------------------------------------------------------------------------------

std::optional<PlainRows> Evaluator::plain(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice) {
  switch (set->kind) {
    case RowsKind::table:
      return PlainRows{*set->table, set->variable, table_slice(*set, frame, slice), slice, {}, {}, {}};
    case RowsKind::filtered: {
      auto rows = plain(set->input, frame, slice);
      if (rows) split_conjunction(set->condition, rows->conditions);
      return rows;
    }
    case RowsKind::sorted: {
      auto rows = plain(set->input, frame, slice);
      if (!rows) return rows;
      rows->order.insert(rows->order.begin(), set->values.begin(), set->values.end());
      rows->descending.insert(rows->descending.begin(), set->descending.begin(), set->descending.end());
      return rows;
    }
    case RowsKind::members: {
      // The rows of a group that was made of a table's rows: these, with the group's keys.
      const auto [at, binding] = find_binding(*frame, set->group);
      if (binding->members) return std::nullopt;
      const RowSetPtr& group = binding->set;
      auto rows = plain(group->input, frame, slice);
      rows->slice = binding->slice;
      rows->around = binding->around;
      for (std::uint32_t k = 0; k < group->values.size(); ++k) {
        auto field = std::make_shared<Node>();
        field->op = Op::field;
        field->type = group->values[k]->type;
        field->variable = group->variable;
        field->field = k;
        auto differs = std::make_shared<Node>();
        differs->op = Op::is_distinct;
        differs->type = {TypeKind::boolean, 0};
        differs->span = set->span;
        differs->children = {group->values[k], field};
        auto same = std::make_shared<Node>();
        same->op = Op::not_;
        same->type = differs->type;
        same->span = set->span;
        same->children = {differs};
        rows->conditions.push_back(same);
      }
      for (NodePtr& condition : rows->conditions) condition = with_variable(condition, rows->variable, set->variable);
      for (NodePtr& key : rows->order) key = with_variable(key, rows->variable, set->variable);
      rows->variable = set->variable;
      return rows;
    }
    case RowsKind::named:
    case RowsKind::extended:
    case RowsKind::days:
    case RowsKind::distinct:
    case RowsKind::grouped:
    case RowsKind::top:
    case RowsKind::unite:
    case RowsKind::except:
    case RowsKind::intersect:
      return std::nullopt;
  }
  return std::nullopt;
}

// --- access ---------------------------------------------------------------------------------------------------------

std::vector<WantedCodes> Access::wanted_codes() const {
  std::vector<WantedCodes> wanted;
  for (const Key& key : keys) {
    WantedCodes& codes = wanted.emplace_back();
    if (key.bridge) {
      codes = key.bridge->wanted_rows();
      continue;
    }
    if (key.key.kind == ScanKey::Kind::given || key.key.last >= base::PackedTable::most_entries / 16) continue;
    const std::uint64_t all = key.key.last + 1;
    base::PackedTable bits(all, 1);
    std::uint64_t count = 0;
    for (std::size_t row = 0; row < frame->rows; ++row) {
      const std::uint64_t code = key.at(row);
      if (code == never || bits[code] != 0) continue;
      bits.add(code, 1);
      ++count;
    }
    if (2 * count <= all) codes = std::make_shared<const base::PackedTable>(std::move(bits));
  }
  return wanted;
}

KeyLayout Access::layout_of_parts(const std::vector<ScanKey>& scan_keys) const {
  std::vector<std::uint64_t> last_codes;
  for (std::size_t k = 0; k < scan_keys.size(); ++k)
    last_codes.push_back(k < keys.size() ? keys[k].last() : scan_keys[k].last);
  return KeyLayout(last_codes);
}

Access Evaluator::access(const PlainRows& rows, const FramePtr& frame) {
  Access access;
  access.table = rows.table;
  access.variable = rows.variable;
  // The values that predicates have captured stand in a frame beside this one.
  auto named = std::make_shared<Frame>();
  named->rows = frame->rows;
  named->parent = frame;
  for (const HeldPredicate& held : rows.slice->predicates) {
    const RowMap map = map_up(*frame, held.frame);
    for (const auto& [name, values] : held.names) named->values.emplace(name, gathered(values, map));
  }
  access.frame = named;
  access.around = rows.around;
  access.poisoned = std::make_shared<std::vector<std::uint8_t>>(frame->rows, 0);
  for (const HeldPredicate& held : rows.slice->predicates) {
    if (reach(model_, held.predicate, rows.table, rows.slice->roles) == Reach::all)
      add_predicate(access, held, rows.slice->roles);
  }
  for (const TableIndex bridge : rows.slice->bridges) add_bridge(access, bridge, rows, frame);
  for (const NodePtr& condition : rows.conditions) {
    // Whatever asks for more than columns of the row, about the row, is asked row by row.
    bool about_row = false;
    walk(condition, [&](const Node& n) {
      const bool column = n.op == Op::column || n.op == Op::field || n.op == Op::name;
      about_row = about_row || (is_leaf(n) && !column && mentions_variable(std::make_shared<Node>(n), rows.variable));
    });
    if (about_row) {
      access.residual.push_back(condition);
    } else {
      add_condition(access, of_slice_row(condition, rows.variable, rows.slice->roles), false);
    }
  }
  return access;
}

void Evaluator::add_predicate(Access& access, const HeldPredicate& held, const Roles& roles) {
  const Predicate& predicate = held.predicate;
  const RowMap map = map_up(*access.frame, held.frame);
  switch (predicate.kind) {
    case PredicateKind::filter:
      return add_condition(access, seen_from(predicate.expression, access.table, roles), true);
    case PredicateKind::key:
      return add_key(access, seen_from(predicate.expression, access.table, roles), held.key, map, true);
    case PredicateKind::row: {
      const auto path = model_.paths(access.table, predicate.table, roles).front();
      const std::uint64_t last = source_.rows(predicate.table);
      access.keys.push_back({{ScanKey::Kind::row, {}, path, nullptr, last}, gathered(held.rows, map)});
      return;
    }
    case PredicateKind::days: {
      const ColumnRef day = *model_.rebase({predicate.table, {}, model_.calendar->day}, access.table, roles).ref;
      std::vector<std::shared_ptr<const CodeRanges>> wanted;
      for (std::size_t i = 0; i < access.frame->rows; ++i) wanted.push_back((*held.days)[map ? (*map)[i] : i]);
      if (access.range) {
        access.days.push_back({day, WantedRanges(std::move(wanted))});
      } else {
        access.range = {ScanKey::of(source_, day), WantedRanges(std::move(wanted))};
      }
      return;
    }
  }
}

void Evaluator::add_bridge(Access& access, TableIndex bridge, const PlainRows& rows, const FramePtr& frame) {
  const Roles& roles = rows.slice->roles;
  const Meeting met = meeting(model_, access.table, bridge, roles);
  if (!met.is_plain) return;
  auto slice = std::make_shared<Slice>();
  slice->roles = roles;
  for (const HeldPredicate& held : rows.slice->predicates) {
    if (reach_through(model_, held.predicate, access.table, bridge, roles) == Reach::all)
      slice->predicates.push_back(held);
  }
  PlainRows plain;
  plain.table = bridge;
  plain.variable = next_name_++;
  plain.slice = slice;
  plain.around = rows.around;
  const Access named = this->access(plain, frame);
  const std::uint64_t met_rows = source_.rows(met.tables[0]);
  const ScanKey met_row{ScanKey::Kind::row, {}, met.from_bridge, nullptr, met_rows};
  std::vector<std::uint64_t> wanted(frame->rows, Access::never);
  std::shared_ptr<const BridgeParts> parts;
  RowsRequest request;
  request.table = bridge;
  request.conditions = named.filters;
  for (const Access::Key& key : named.keys) request.keys.push_back(key.key);
  request.keys.push_back(met_row);
  if (!named.range && named.days.empty() && named.residual.empty() && layout_of(request.keys).fits()) {
    // What the frame's rows ask for are combinations of keys: each that occurs is a part.
    parts = bridge_parts(request, met.tables[0], "",
                         slice->predicates.empty() ? Span{} : slice->predicates.front().predicate.span);
    for (std::size_t i = 0; i < wanted.size(); ++i) {
      const std::uint32_t part = parts->find([&](std::size_t k) { return named.keys[k].at(i); });
      if (part != BridgeParts::none) wanted[i] = part;
    }
  } else {
    // Each row of the frame asks for a part of its own.
    const SharedCodes row_of = codes_of(met_row, bridge);
    BridgeParts::Pairs pairs;
    constexpr std::size_t most_pairs = std::size_t{1} << 21;
    for_pairs(named, plain, most_pairs, [&](const FramePtr& written, std::size_t) {
      const auto& rows_of_bridge = *written->bindings.begin()->second.rows;
      const RowMap up = map_up(*written, named.frame.get());
      for (std::uint32_t i = 0; i < written->rows; ++i) {
        const std::uint64_t row = (*row_of)[rows_of_bridge[i]];
        if (row < met_rows) pairs.emplace_back(static_cast<std::uint32_t>(row), up ? (*up)[i] : i);
      }
    });
    parts = std::make_shared<const BridgeParts>(std::move(pairs), met_rows, static_cast<std::uint32_t>(frame->rows));
    std::iota(wanted.begin(), wanted.end(), std::uint64_t{0});
  }
  for (std::size_t i = 0; i < frame->rows; ++i) {
    if ((*named.poisoned)[i] != 0) (*access.poisoned)[i] = 1;
  }
  access.keys.push_back({{ScanKey::Kind::row, {}, met.from_table, nullptr, met_rows},
                         std::make_shared<const std::vector<std::uint64_t>>(std::move(wanted)),
                         true,
                         std::move(parts)});
}

std::shared_ptr<const ScanResult> Evaluator::over_bridges(const Access& access,
                                                          std::shared_ptr<const ScanResult> result) const {
  for (std::size_t k = 0; k < access.keys.size(); ++k) {
    if (!access.keys[k].bridge) continue;
    auto parts = std::make_shared<ScanResult>();
    parts->filter_overflow = result->filter_overflow;
    parts->groupings.push_back(by_parts(result->groupings[0], k, *access.keys[k].bridge, threads_));
    result = std::move(parts);
  }
  return result;
}

void Evaluator::add_condition(Access& access, const NodePtr& condition, bool of_slice) {
  if (!reads_outside(condition)) {
    if (of_slice) {
      access.filters.push_back(condition);
    } else if (access.where) {
      auto both = std::make_shared<Node>();
      both->op = Op::and_;
      both->type = {TypeKind::boolean, 0};
      both->span = condition->span;
      both->children = {access.where, condition};
      access.where = both;
    } else {
      access.where = condition;
    }
    return;
  }
  if (const NodePtr settled = settled_for_one(access, condition)) return add_condition(access, settled, of_slice);
  if (add_comparison(access, condition)) return;
  access.residual.push_back(with_variable(condition, slice_row, access.variable));
  access.other_inside = nullptr;
  if (condition->op != Op::not_equal) return;
  for (const std::size_t side : {0U, 1U}) {
    const NodePtr& inside = condition->children[side];
    const NodePtr& outside = condition->children[1 - side];
    if (inside->op != Op::column || inside->variable != slice_row || reads_slice_row(outside)) continue;
    access.other_inside = inside;
    access.other_outside = outside;
  }
}

// For a frame of one row, the condition with values in the place of all that stands outside of the set's rows. Nothing
// where a value does not fit its type.
NodePtr Evaluator::settled_for_one(const Access& access, const NodePtr& condition) {
  if (access.frame->rows != 1) return nullptr;
  bool fits = true;
  const NodePtr settled = replaced(condition, [&](const NodePtr& n) -> NodePtr {
    if (reads_slice_row(n) || !reads_outside(n) || !fits) return nullptr;
    const VectorPtr value = evaluate(n, access.frame, access.around);
    fits = value->state[0] != State::overflow;
    auto literal = std::make_shared<Node>();
    literal->op = Op::literal;
    literal->type = n->type;
    literal->span = n->span;
    literal->literal = value->value_at(0);
    return literal;
  });
  return fits ? settled : nullptr;
}

void Evaluator::poison(const Access& access, const Vector& values) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (values.state[i] == State::overflow) (*access.poisoned)[i] = 1;
  }
}

// Values for the rows of the frame, those of poisoned rows as overflows.
VectorPtr Evaluator::with_poison(const Access& access, VectorPtr values) {
  if (std::find(access.poisoned->begin(), access.poisoned->end(), 1) == access.poisoned->end()) return values;
  auto copy = std::make_shared<Vector>();
  copy->reset(values->repr, values->size());
  for (std::size_t i = 0; i < values->size(); ++i) {
    copy->set(i, values->value_at(i));
    if (values->state[i] == State::overflow || (*access.poisoned)[i] != 0) copy->state[i] = State::overflow;
  }
  return copy;
}

// Finds a comparison of something about the row with something from outside.
bool Evaluator::add_comparison(Access& access, const NodePtr& condition) {
  const Node* node = condition.get();
  const bool null_safe = node->op == Op::not_ && node->children[0]->op == Op::is_distinct;
  if (null_safe) node = node->children[0].get();
  const bool equality = null_safe || node->op == Op::equal;
  if (!equality && node->op != Op::less && node->op != Op::less_equal) return false;
  const auto about_row = [](const NodePtr& n) { return reads_slice_row(n) && !reads_outside(n); };
  const bool left = about_row(node->children[0]) && !reads_slice_row(node->children[1]);
  const bool right = about_row(node->children[1]) && !reads_slice_row(node->children[0]);
  if (!left && !right) return false;
  const NodePtr& inside = node->children[left ? 0 : 1];
  const NodePtr& outside = node->children[left ? 1 : 0];
  Cut cut;
  cut.below = left;
  cut.including = node->op == Op::less_equal;
  // Running totals and previous values compare a column with itself in other rows: its codes will do.
  if (const SharedCodes codes = same_column(outside, access.frame, inside)) {
    const ScanKey key = ScanKey::of(source_, inside->column);
    cut.null_code = key.last;
    if (!equality) return add_range(access, inside, key, {codes, cut});
    access.keys.push_back({key, codes, null_safe});
    return true;
  }
  // What can't be told apart from null among the codes is looked at row by row.
  if (inside->op != Op::column && encoded(inside, access.table).overflowed()) return false;
  const VectorPtr values = evaluate(outside, access.frame, access.around);
  poison(access, *values);
  if (equality) {
    add_key(access, inside, values, nullptr, null_safe);
    return true;
  }
  ScanKey key = ordered_key(inside, access.table);
  cut.null_code = key.last;
  std::vector<CodeRange> wanted(values->size());
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    if (values->state[i] == State::value) wanted[i] = bounded(key, inside, access.table, *values, i, cut);
  }
  return add_range(access, inside, std::move(key), WantedRanges(std::move(wanted)));
}

// For each row of the frame, the code of the column that `inside` is, when `outside` is the same column of a row in
// scope; nothing else, nor when the frame is so small that values are found faster.
SharedCodes Evaluator::same_column(const NodePtr& outside, const FramePtr& frame, const NodePtr& inside) {
  if (outside->op != Op::column || inside->op != Op::column) return nullptr;
  if (source_.column(inside->column.column).layout == store::Layout::bits) return nullptr;
  const auto [at, binding] = find_binding(*frame, outside->variable);
  if (!binding->table) return nullptr;
  const ColumnRef ref = routed(model_, outside->column, binding->slice ? binding->slice->roles : Roles{});
  if (!(ref == inside->column) || frame->rows * 8 < source_.rows(*binding->table)) return nullptr;
  const SharedCodes all = codes_of(ScanKey::of(source_, ref), *binding->table);
  const RowNumbers rows = gathered(binding->rows, map_up(*frame, at));
  bool whole = rows->size() == all->size();
  for (std::size_t i = 0; i < rows->size() && whole; ++i) whole = (*rows)[i] == i;
  if (whole) return all;
  auto codes = std::make_shared<std::vector<std::uint64_t>>(rows->size());
  for (std::size_t i = 0; i < codes->size(); ++i) (*codes)[i] = (*all)[(*rows)[i]];
  return codes;
}

void Evaluator::add_key(Access& access, const NodePtr& inside, const VectorPtr& values, const RowMap& map,
                        bool nulls_match) {
  // Many rows of a loop share the values of few rows around it: each of these is looked up once.
  const bool before_map = map && values->size() < map->size();
  const VectorPtr wanted = before_map ? values : gathered(values, map);
  Access::Key key;
  std::vector<std::uint64_t> codes(wanted->size(), Access::never);
  if (inside->op == Op::column) {
    const store::Column& column = source_.column(inside->column.column);
    key.key = ScanKey::of(source_, inside->column);
    for (std::size_t i = 0; i < wanted->size(); ++i) {
      if (wanted->state[i] == State::null && nulls_match) codes[i] = column.null_code;
    }
    find_codes(column, *wanted, codes);
  } else {
    const Encoding& encoding = encoded(inside, access.table);
    key.key = given_key(inside, encoding);
    for (std::size_t i = 0; i < wanted->size(); ++i) {
      if (wanted->state[i] == State::value) {
        const std::uint64_t code = encoding.before(*wanted, i);
        if (encoding.through(*wanted, i) != code) codes[i] = code;
      } else if (nulls_match) {
        codes[i] = encoding.null_code();
      }
    }
  }
  const auto shared = std::make_shared<const std::vector<std::uint64_t>>(std::move(codes));
  key.wanted = before_map ? gathered(shared, map) : shared;
  access.keys.push_back(std::move(key));
}

// The codes of the values that a bound cuts off.
CodeRange Evaluator::bounded(const ScanKey& key, const NodePtr& inside, TableIndex table, const Vector& bound,
                             std::size_t row, const Cut& cut) {
  const bool through = cut.below == cut.including;
  std::uint64_t at = 0;
  if (key.kind == ScanKey::Kind::given) {
    const Encoding& encoding = encoded(inside, table);
    at = through ? encoding.through(bound, row) : encoding.before(bound, row);
  } else {
    const store::Column& column = source_.column(key.column.column);
    const Value value = bound.value_at(row);
    at = column.codes_before(value);
    if (through && column.code_of(value)) ++at;
  }
  return cut.below ? CodeRange{0, at} : CodeRange{at, key.last};
}

// Adds the range, or what is left of it within the one that is there; false if that is one of something else.
bool Evaluator::add_range(Access& access, const NodePtr& inside, ScanKey key, WantedRanges wanted) {
  if (!access.range) {
    access.range = {std::move(key), std::move(wanted)};
    access.range_of = canonical(model_, inside);
    return true;
  }
  if (access.range_of != canonical(model_, inside)) return false;
  std::vector<CodeRange> both(access.frame->rows);
  for (std::size_t i = 0; i < both.size(); ++i) {
    const CodeRange a = wanted.one(i);
    const CodeRange b = access.range->wanted.one(i);
    both[i] = {std::max(a.begin, b.begin), std::min(a.end, b.end)};
    both[i].end = std::max(both[i].begin, both[i].end);
  }
  access.range->wanted = WantedRanges(std::move(both));
  return true;
}

ScanKey Evaluator::ordered_key(const NodePtr& node, TableIndex table) {
  if (node->op == Op::column && source_.column(node->column.column).layout != store::Layout::bits)
    return ScanKey::of(source_, node->column);
  const Encoding& encoding = encoded(node, table);
  if (encoding.overflowed()) fail_key(node->span);
  return given_key(node, encoding);
}

// The key of an expression's values, which a live table is asked by the expression.
ScanKey Evaluator::given_key(const NodePtr& expression, const Encoding& encoding) {
  return {ScanKey::Kind::given, {}, {}, encoding.codes(), encoding.null_code(), expression};
}

const Encoding& Evaluator::encoded(const NodePtr& node, TableIndex table) {
  auto& encoding = encodings_[{table, canonical(model_, node)}];
  if (!encoding && source_.is_live(table)) {
    const std::shared_ptr<const KeyValues> known = source_.live->values(table, node);
    std::vector<std::uint64_t> codes(known->null_code());
    std::iota(codes.begin(), codes.end(), std::uint64_t{0});
    encoding = std::make_unique<Encoding>(known->decode(codes));
  }
  if (!encoding) {
    Program program(source_, table);
    encoding = std::make_unique<Encoding>(program.evaluate(program.add(node), threads_));
  }
  return *encoding;
}

// The codes of a key for all rows of the table.
SharedCodes Evaluator::codes_of(const ScanKey& key, TableIndex table) {
  if (key.kind == ScanKey::Kind::given) return key.codes;
  SharedCodes* const known =
      key.kind == ScanKey::Kind::column ? &codes_[{key.column.column, key.column.path}] : nullptr;
  if (known != nullptr && *known) return *known;
  source_.require_rows(table);
  auto codes = std::make_shared<std::vector<std::uint64_t>>(source_.rows(table));
  if (known != nullptr && key.column.path.empty()) {
    const store::Codes& stored = source_.column(key.column.column).codes;
    base::parallel_short(stored.blocks(), threads_, [&](std::size_t block) {
      stored.decode_block(block, codes->data() + block * store::block_rows);
    });
  } else {
    Program program(source_, table);
    const Vector values = program.evaluate(program.add_key(key), threads_);
    std::ranges::copy(values.codes(), codes->begin());
  }
  if (known != nullptr) *known = codes;
  return codes;
}

}  // namespace juniper::engine
