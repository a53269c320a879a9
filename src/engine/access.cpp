// Which rows of a table a slice allows, for all rows of a frame at once.
#include <algorithm>

#include "engine/evaluator.h"

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
    default:
      return std::nullopt;
  }
}

// --- access ---------------------------------------------------------------------------------------------------------

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
      return add_key(access, seen_from(predicate.expression, access.table, roles), gathered(held.key, map), true);
    case PredicateKind::row: {
      const auto path = model_.paths(access.table, predicate.table, roles).front();
      const std::uint64_t last = source_.store.tables[predicate.table].rows;
      access.keys.push_back({{ScanKey::Kind::row, {}, path, nullptr, last}, *gathered(held.rows, map)});
      return;
    }
    case PredicateKind::days: {
      const ColumnRef day = *model_.rebase({predicate.table, {}, model_.calendar->day}, access.table, roles).ref;
      std::vector<std::shared_ptr<const CodeRanges>> wanted;
      for (std::size_t i = 0; i < access.frame->rows; ++i) wanted.push_back((*held.days)[map ? (*map)[i] : i]);
      if (access.range) {
        access.days.push_back({day, std::move(wanted)});
        return;
      }
      bool prefix = true;
      for (const auto& ranges : wanted) prefix = prefix && ranges->size() == 1 && ranges->front().begin == 0;
      access.range = {ScanKey::of(source_, day), std::move(wanted), prefix};
      return;
    }
  }
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
  if (!add_comparison(access, condition))
    access.residual.push_back(with_variable(condition, slice_row, access.variable));
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
  const VectorPtr values = evaluate(outside, access.frame, access.around);
  poison(access, *values);
  if (equality) {
    add_key(access, inside, values, null_safe);
    return true;
  }
  return add_range(access, inside, values, left, node->op == Op::less_equal);
}

void Evaluator::add_key(Access& access, const NodePtr& inside, const VectorPtr& wanted, bool nulls_match) {
  Access::Key key;
  key.wanted.resize(access.frame->rows, Access::never);
  if (inside->op == Op::column) {
    const store::Column& column = source_.column(inside->column.column);
    key.key = ScanKey::of(source_, inside->column);
    for (std::size_t i = 0; i < wanted->size(); ++i) {
      if (wanted->state[i] == State::value) {
        key.wanted[i] = column.code_of(wanted->value_at(i)).value_or(Access::never);
      } else if (nulls_match) {
        key.wanted[i] = column.null_code;
      }
    }
  } else {
    const Encoding& encoding = encoded(inside, access.table);
    key.key = {ScanKey::Kind::given, {}, {}, encoding.codes(), encoding.null_code()};
    for (std::size_t i = 0; i < wanted->size(); ++i) {
      if (wanted->state[i] == State::value) {
        const std::uint64_t code = encoding.before(*wanted, i);
        if (encoding.through(*wanted, i) != code) key.wanted[i] = code;
      } else if (nulls_match) {
        key.wanted[i] = encoding.null_code();
      }
    }
  }
  access.keys.push_back(std::move(key));
}

// `below`: the row's value is to be less than the bound; else greater.
bool Evaluator::add_range(Access& access, const NodePtr& inside, const VectorPtr& bound, bool below, bool including) {
  const Encoding& encoding = encoded(inside, access.table);
  ScanKey key{ScanKey::Kind::given, {}, {}, encoding.codes(), encoding.null_code()};
  if (access.range && access.range->key.codes != key.codes) return false;
  std::vector<std::shared_ptr<const CodeRanges>> wanted(bound->size());
  for (std::size_t i = 0; i < bound->size(); ++i) {
    CodeRange range;
    if (bound->state[i] == State::value) {
      const bool through = below == including;
      const std::uint64_t code = through ? encoding.through(*bound, i) : encoding.before(*bound, i);
      range = below ? CodeRange{0, code} : CodeRange{code, encoding.null_code()};
    }
    if (access.range) {
      const CodeRange& other = access.range->wanted[i]->front();
      range = {std::max(range.begin, other.begin), std::min(range.end, other.end)};
      range.end = std::max(range.begin, range.end);
    }
    wanted[i] = std::make_shared<const CodeRanges>(1, range);
  }
  const bool prefix = below && (!access.range || access.range->prefix);
  access.range = {std::move(key), std::move(wanted), prefix};
  return true;
}

const Encoding& Evaluator::encoded(const NodePtr& node, TableIndex table) {
  auto& encoding = encodings_[{table, canonical(model_, node)}];
  if (!encoding) {
    Program program(source_, table);
    encoding = std::make_unique<Encoding>(program.evaluate(program.add(node)));
  }
  return *encoding;
}

// The codes of a key for all rows of the table.
std::vector<std::uint64_t> Evaluator::codes_of(const ScanKey& key, TableIndex table) {
  if (key.kind == ScanKey::Kind::given) return *key.codes;
  Program program(source_, table);
  const auto step = key.kind == ScanKey::Kind::column ? program.add_code(key.column) : program.add_row(key.path);
  const Vector codes = program.evaluate(step);
  return {codes.narrow.begin(), codes.narrow.end()};
}

}  // namespace juniper::engine
