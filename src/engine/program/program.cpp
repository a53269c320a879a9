#include "engine/program/program.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <limits>
#include <numeric>
#include <set>

#include "base/exact.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "engine/asked/watch.h"
#include "engine/vector/column_values.h"
#include "language/traverse.h"

namespace juniper::engine {

namespace {

using language::ColumnRef;
using language::Function;
using language::Node;
using language::NodePtr;
using language::Op;

constexpr std::uint64_t most_narrow = std::numeric_limits<std::uint32_t>::max();

// A copy of the expression as seen from behind the link with which all its paths begin.
NodePtr behind_link(const NodePtr& node, const language::CheckedModel& model) {
  auto copy = std::make_shared<Node>(*node);
  if (copy->op == Op::column) {
    copy->column.start = model.links[copy->column.path.front()].to.table;
    copy->column.path.erase(copy->column.path.begin());
  }
  for (NodePtr& child : copy->children) child = behind_link(child, model);
  return copy;
}

void copy_value(const Vector& from, std::size_t at, Vector& to, std::size_t row) {
  to.state[row] = from.state[at];
  with_type(to.repr, [&](auto zero) { to.of<decltype(zero)>()[row] = from.of<decltype(zero)>()[at]; });
}

// The values of a domain by code.
template <class Code>
void look_up(const Vector& domain, const Code* codes, std::size_t count, Vector& out) {
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    const T* const from = domain.of<T>().data();
    T* const to = out.of<T>().data();
    for (std::size_t i = 0; i < count; ++i) to[i] = from[codes[i]];
  });
  if (domain.all_values) return;
  for (std::size_t i = 0; i < count; ++i) out.state[i] = domain.state[codes[i]];
}

#ifndef NDEBUG
// A value outside of the range that was proved for it makes wrong numbers later on: it ends the process at once.
void check_range(const Range& range, const Vector& values) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (values.state[i] != State::value) continue;
    if (values.repr == Repr::narrow && !range.holds(values.narrow[i])) std::abort();
    if (values.repr == Repr::wide && !range.holds(values.wide[i])) std::abort();
  }
}
#endif

}  // namespace

Program::Program(const Source& source, language::TableIndex table)
    : source_(source), table_(table), rows_(source.rows(table)) {
  source.require_rows(table);
}
Program::Program(const Source& source, const LeafValues& leaves, std::size_t rows)
    : source_(source), leaves_(&leaves), rows_(rows) {}
Program::Program(const Source& source, language::ColumnId column)
    : source_(source), dictionary_(&source.column(column)), rows_(dictionary_->null_code) {}

// --- compiling ------------------------------------------------------------------------------------------------------

Program::StepIndex Program::push(std::string key, Step step) {
  const auto index = static_cast<StepIndex>(steps_.size());
  steps_.push_back(std::move(step));
  known_.emplace(std::move(key), index);
  return index;
}

Program::CodesIndex Program::add_codes(const store::Codes& codes, std::uint64_t last) {
  const auto known = std::find_if(codes_.begin(), codes_.end(), [&](const ReadCodes& c) { return c.codes == &codes; });
  const auto index = static_cast<CodesIndex>(known - codes_.begin());
  if (known == codes_.end()) codes_.push_back({&codes, last > most_narrow});
  return index;
}

Program& Program::inner(Program program) {
  return *inner_.emplace_back(std::make_unique<Program>(std::move(program)));
}

// True if it is worth while to evaluate an expression over one column once for each of its codes.
bool Program::pays_by_code(const Node& node, const store::Column& column) const {
  if (column.type.kind == TypeKind::text) return true;
  // The values of a column are found by its codes as they are.
  if (column.layout == store::Layout::bits || node.op == Op::column) return false;
  const bool is_condition = node.type.kind == TypeKind::boolean;
  if (column.has_dictionary() && (is_condition || column.distinct <= std::uint64_t{1} << 16))
    return column.distinct < rows_;
  // Codes that no row has are evaluated, too; arithmetic is as quick as looking up in a table that is not small.
  const std::uint64_t most = is_condition ? std::uint64_t{1} << 17 : std::uint64_t{1} << 12;
  return column.null_code <= most && column.null_code < rows_ / 4;
}

Program::StepIndex Program::add(const NodePtr& node) {
  const std::string key = canonical(source_.model, node);
  if (const auto known = known_.find(key); known != known_.end()) return known->second;
  if (node->op == Op::literal) return add_constant(node, key);
  if (leaves_ != nullptr) return leaves_->contains(key) ? add_leaf(node, key) : add_operation(node, key);

  const std::vector<ColumnRef> refs = language::column_refs(node);
  if (!refs.empty() && dictionary_ == nullptr) {
    const ColumnRef& first = refs.front();
    const bool one_link = !first.path.empty() && std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& r) {
      return !r.path.empty() && r.path.front() == first.path.front();
    });
    if (one_link) return add_behind_link(node, first.path.front(), key);
    const bool one_column = std::all_of(refs.begin(), refs.end(),
                                        [&](const ColumnRef& r) { return r.path.empty() && r.column == first.column; });
    if (one_column) {
      const store::Column& column = source_.column(first.column);
      if (pays_by_code(*node, column)) return add_over_codes(node, first.column, key);
    }
  }
  return node->op == Op::column ? add_leaf(node, key) : add_operation(node, key);
}

std::optional<Program::Truth> Program::add_truth(const NodePtr& condition, bool or_null) {
  const std::vector<ColumnRef> refs = language::column_refs(condition);
  if (refs.empty()) return std::nullopt;
  const auto truth_of = [or_null](const Vector& domain) -> std::optional<base::PackedTable> {
    std::vector<std::uint8_t> passes(domain.size());
    for (std::size_t i = 0; i < passes.size(); ++i) {
      if (domain.state[i] == State::overflow) return std::nullopt;
      passes[i] = domain.is_true(i) || (or_null && domain.state[i] == State::null) ? 1 : 0;
    }
    base::PackedTable table(passes.size(), 1);
    table.add(0, std::span<const std::uint8_t>(passes), 0);
    return table;
  };
  if (refs.front().path.empty()) {
    const auto step = by_code(add(condition));
    if (!step || !step->domain) return std::nullopt;
    auto passes = truth_of(*step->domain);
    return passes ? std::optional(Truth{step->codes, std::move(*passes)}) : std::nullopt;
  }
  // What holds behind a link is found by the codes there, and told for each row that the link leads to.
  const language::LinkIndex first = refs.front().path.front();
  if (std::any_of(refs.begin(), refs.end(),
                  [&](const ColumnRef& r) { return r.path.empty() || r.path.front() != first; }))
    return std::nullopt;
  const store::StoredLink& link = source_.link(first);
  if (link.no_row > most_narrow) return std::nullopt;
  Program behind(source_, source_.model.links[first].to.table);
  const NodePtr there = behind_link(condition, source_.model);
  base::PackedTable passes(behind.rows() + 1, 1);
  if (const auto truth = behind.add_truth(there, or_null)) {
    base::parallel_short(behind.blocks(), source_.threads, [&](std::size_t block) {
      std::array<std::uint32_t, store::block_rows> codes;
      std::array<std::uint32_t, store::block_rows> holds;
      const store::Codes& stored = *behind.codes_[truth->codes].codes;
      stored.decode_block(block, codes.data());
      const std::size_t count = stored.rows_in_block(block);
      truth->passes.look_up(std::span(codes).first(count), 0, holds.data());
      passes.add(block * store::block_rows, std::span<const std::uint32_t>(holds).first(count), 0);
    });
    passes.add(behind.rows(), truth->passes[truth->passes.size() - 1]);
  } else {
    auto found = truth_of(behind.evaluate_with_none(behind.add(there)));
    if (!found) return std::nullopt;
    passes = std::move(*found);
  }
  const OverLink over = add_over_link(first);
  if (!over.rows) return Truth{over.codes, std::move(passes)};
  base::PackedTable by_key(over.rows->size(), 1);
  base::parallel_short((by_key.size() + store::block_rows - 1) / store::block_rows, source_.threads,
                       [&](std::size_t block) {
                         std::array<std::uint32_t, store::block_rows> rows;
                         std::array<std::uint32_t, store::block_rows> holds;
                         const std::size_t count = over.rows->read_block(block, rows.data());
                         passes.look_up(std::span(rows).first(count), 0, holds.data());
                         by_key.add(block * store::block_rows, std::span<const std::uint32_t>(holds).first(count), 0);
                       });
  return Truth{over.codes, std::move(by_key)};
}

Program::StepIndex Program::add_constant(const NodePtr& node, const std::string& key) {
  Step step;
  step.kind = Kind::constant;
  const Value& value = node->literal;
  const bool exact = !value.is_null() && value.kind() == Value::Kind::exact;
  step.repr = repr_of(node->type, !exact || base::fits_int64(value.exact()));
  step.range = exact ? Range{value.exact(), value.exact()} : Range{0, 0};
  auto domain = std::make_shared<Vector>();
  domain->reset(step.repr, 1);
  domain->set(0, value);
  step.domain = std::move(domain);
  return push(key, std::move(step));
}

// A column of the table or the dictionary's entries, or a part that was evaluated before.
Program::StepIndex Program::add_leaf(const NodePtr& node, const std::string& key) {
  Step step;
  if (leaves_ != nullptr) {
    step.kind = Kind::leaf;
    step.domain = leaves_->at(key);
    step.repr = step.domain->repr;
    if (step.repr == Repr::narrow)
      step.range = {std::numeric_limits<std::int64_t>::min(), std::numeric_limits<std::int64_t>::max()};
    return push(key, std::move(step));
  }
  step.kind = dictionary_ != nullptr ? Kind::entries : Kind::column;
  step.column = dictionary_ != nullptr ? dictionary_ : &source_.column(node->column.column);
  step.repr = repr_of(*step.column);
  if (step.repr == Repr::narrow) step.range = {0, 0};  // of a column without a value
  if (step.repr == Repr::narrow && step.column->distinct > 0) {
    step.range = {step.column->least.exact(), step.column->most.exact()};
    // The last code before that of null may stand for no value of the column.
    if (dictionary_ != nullptr) step.range.high = std::max(step.range.high, int128{step.column->exact_of(rows_ - 1)});
  }
  if (step.kind == Kind::column) step.codes = add_codes(step.column->codes, step.column->null_code);
  return push(key, std::move(step));
}

Program::StepIndex Program::add_behind_link(const NodePtr& node, language::LinkIndex link, const std::string& key) {
  Program& behind = inner(Program(source_, source_.model.links[link].to.table));
  const StepIndex result = behind.add(behind_link(node, source_.model));
  Step step;
  step.kind = Kind::looked_up;
  step.repr = behind.steps_[result].repr;
  step.range = behind.steps_[result].range;
  look_up_over_link(link, behind.evaluate_with_none(result), step);
  return push(key, std::move(step));
}

// The codes that are read for each row to cross a link.
Program::OverLink Program::add_over_link(language::LinkIndex link) {
  const std::vector<CodesOnTheWay> steps = codes_along(source_, std::span(&link, 1), nullptr);
  OverLink over{add_codes(*steps[0].codes, steps[0].none), {}};
  if (steps.size() > 1) over.rows = std::make_unique<const FarCodes>(source_, std::span(steps).subspan(1));
  return over;
}

// Makes a step look up what stands behind a link, given by row there and for none.
void Program::look_up_over_link(language::LinkIndex link, Vector behind, Step& step) {
  const OverLink over = add_over_link(link);
  step.codes = over.codes;
  if (over.rows) {
    const std::vector<std::uint32_t>& rows = over.rows->all();
    Vector by_key;
    by_key.reset(behind.repr, rows.size());
    look_up(behind, rows.data(), rows.size(), by_key);
    by_key.owned = behind.owned;
    by_key.note_states();
    behind = std::move(by_key);
  }
  step.domain = std::make_shared<const Vector>(std::move(behind));
}

Program::StepIndex Program::add_over_codes(const NodePtr& node, language::ColumnId column, const std::string& key) {
  Program& entries = inner(Program(source_, column));
  const StepIndex result = entries.add(node);
  Step step;
  step.kind = Kind::looked_up;
  step.repr = entries.steps_[result].repr;
  step.range = entries.steps_[result].range;
  step.domain = std::make_shared<const Vector>(entries.evaluate_with_none(result));
  const store::Column& read = source_.column(column);
  step.codes = add_codes(read.codes, read.null_code);
  return push(key, std::move(step));
}

ScanKey ScanKey::of(const Source& source, const language::ColumnRef& column) {
  return {Kind::column, column, {}, nullptr, source.column(column.column).null_code};
}

Program::StepIndex Program::add_key(const ScanKey& key) {
  switch (key.kind) {
    case ScanKey::Kind::column:
      return add_code(key.column);
    case ScanKey::Kind::row:
      return add_row(key.path);
    case ScanKey::Kind::value:
      return add_coded(key.expression, key.values);
    case ScanKey::Kind::given:
      break;
  }
  return add_given(key.codes);
}

Program::StepIndex Program::add_code(const ColumnRef& ref) {
  std::string key = fmt::format("code {} {}", ref.column.table, ref.column.column);
  for (const language::LinkIndex link : ref.path) key += fmt::format(" {}", link);
  if (const auto known = known_.find(key); known != known_.end()) return known->second;
  Step step;
  if (ref.path.empty()) {
    step.kind = Kind::code;
    step.column = &source_.column(ref.column);
    step.codes = add_codes(step.column->codes, step.column->null_code);
    return push(key, std::move(step));
  }
  const store::Column& column = source_.column(ref.column);
  const language::TableIndex table = source_.model.links[ref.path.front()].to.table;
  if (column.null_code <= most_narrow) return push_far_code(std::move(key), ref.path, &column);
  Program& behind = inner(Program(source_, table));
  const StepIndex result = behind.add_code({table, {ref.path.begin() + 1, ref.path.end()}, ref.column});
  Vector domain = behind.evaluate_with_none(result);
  domain.narrow.back() = static_cast<std::int64_t>(column.null_code);
  domain.state.back() = State::value;
  step.kind = Kind::looked_up;
  look_up_over_link(ref.path.front(), std::move(domain), step);
  return push(key, std::move(step));
}

Program::StepIndex Program::add_row(const std::vector<language::LinkIndex>& path) {
  std::string key = "row";
  for (const language::LinkIndex link : path) key += fmt::format(" {}", link);
  if (const auto known = known_.find(key); known != known_.end()) return known->second;
  if (path.empty()) {
    Step step;
    step.kind = Kind::row;
    return push(key, std::move(step));
  }
  if (source_.link(path.back()).no_row > most_narrow)
    throw base::Failure(base::error("JR-703", "a table has too many rows to be grouped by"));
  return push_far_code(std::move(key), path, nullptr);
}

// A step for the codes of a column behind links, or, without a column, for the rows that the last link leads to.
Program::StepIndex Program::push_far_code(std::string key, const std::vector<language::LinkIndex>& path,
                                          const store::Column* column) {
  Step step;
  step.kind = Kind::far_code;
  const std::vector<CodesOnTheWay> steps = codes_along(source_, path, column);
  step.codes = add_codes(*steps[0].codes, steps[0].none);
  step.none = steps.back().none;
  // Where the way has one step, its codes are those that are wanted.
  if (steps.size() > 1) step.far = std::make_shared<const FarCodes>(source_, std::span(steps).subspan(1));
  return push(std::move(key), std::move(step));
}

Program::StepIndex Program::add_given(SharedCodes codes) {
  Step step;
  step.kind = Kind::given;
  step.given = std::move(codes);
  return push(fmt::format("given {}", steps_.size()), std::move(step));
}

namespace {

// Calls take(literal) for all that nested cases can come to; false if that is not always a literal.
template <class Take>
bool each_literal(const NodePtr& node, const Take& take) {
  if (node->op == Op::literal) {
    take(node);
    return true;
  }
  if (node->op != Op::cases) return false;
  const std::size_t last = node->children.size() - 1;
  for (std::size_t i = 1; i < last; i += 2) {
    if (!each_literal(node->children[i], take)) return false;
  }
  return each_literal(node->children[last], take);
}

// Nested cases that choose among the codes of their literals.
NodePtr cases_of_codes(const NodePtr& node, const KeyValues& values) {
  auto copy = std::make_shared<Node>(*node);
  copy->type = {TypeKind::integer, 0};
  if (node->op == Op::literal) {
    copy->literal = Value::of(int128{values.code_of(node->literal)});
    return copy;
  }
  const std::size_t last = node->children.size() - 1;
  for (std::size_t i = 1; i < last; i += 2) copy->children[i] = cases_of_codes(node->children[i], values);
  copy->children[last] = cases_of_codes(node->children[last], values);
  return copy;
}

// Whether an expression reads one column alone, of the rows' own table.
bool is_of_one_column(const std::vector<ColumnRef>& refs) {
  return !refs.empty() && std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& ref) {
    return ref.path.empty() && ref.column == refs.front().column;
  });
}

}  // namespace

// An expression by whose values rows are grouped. What depends on one column is worth evaluating for each of its codes
// even where these are many: it is looked up in a small table for each row, and not computed.
Program::StepIndex Program::add_grouped_by(const NodePtr& expression) {
  const std::vector<ColumnRef> refs = language::column_refs(expression);
  if (is_of_one_column(refs) && expression->op != Op::column) {
    constexpr std::uint64_t most = std::uint64_t{1} << 22;
    const store::Column& column = source_.column(refs.front().column);
    const std::string key = "by code " + canonical(source_.model, expression);
    if (const auto known = known_.find(key); known != known_.end()) return known->second;
    if (column.layout != store::Layout::bits && column.null_code <= std::min<std::uint64_t>(most, rows_ / 2))
      return add_over_codes(expression, refs.front().column, key);
  }
  return add(expression);
}

bool Program::add_possible(const NodePtr& expression, KeyValues& values) {
  if (each_literal(expression, [&](const NodePtr& literal) { values.add(literal->literal); })) return true;
  const StepIndex index = add_grouped_by(expression);
  if (const auto known = by_code(index); known && known->domain) {
    values.add(*known->domain);
    // Texts may be views of what is gone with this program.
    if (known->domain->repr != Repr::text && is_of_one_column(language::column_refs(expression)))
      values.keep_by_code(canonical(source_.model, expression), known->domain);
    return true;
  }
  constexpr std::int64_t few = 1024;
  const Range range = steps_[index].range;
  if (steps_[index].repr != Repr::narrow || range.high - range.low >= few) return false;
  for (int128 value = range.low; value <= range.high; ++value) values.add(Value::of(value));
  return true;
}

// Where the expression depends on one code, so does the code of its value.
Program::StepIndex Program::add_coded(const NodePtr& expression, std::shared_ptr<const KeyValues> values) {
  Step step;
  if (each_literal(expression, [](const NodePtr&) {})) {
    // Codes are chosen as the literals are; where a condition may overflow, for which no literal stands, by way of these.
    const StepIndex chosen = add_grouped_by(cases_of_codes(expression, *values));
    if (!may_overflow(chosen)) {
      const auto known = by_code(chosen);
      if (!known || !known->domain) return chosen;
      if (known->domain->repr == Repr::narrow) {
        step.kind = Kind::looked_up;
        step.codes = known->codes;
        step.domain = known->domain;
        step.range = {0, int128{values->overflow_code()}};
        step.values = std::move(values);
        return push(fmt::format("coded {}", steps_.size()), std::move(step));
      }
    }
  }
  const auto look_up = [&](CodesIndex by, const Vector& domain) {
    auto codes = std::make_shared<Vector>();
    codes->reset(Repr::narrow, domain.size());
    values->find(domain, codes->narrow.data());
    codes->note_states();
    step.kind = Kind::looked_up;
    step.codes = by;
    step.domain = std::move(codes);
  };
  if (const auto kept = values->by_code(canonical(source_.model, expression))) {
    const store::Column& column = source_.column(language::column_refs(expression).front().column);
    look_up(add_codes(column.codes, column.null_code), *kept);
  } else {
    const StepIndex input = add_grouped_by(expression);
    if (const auto known = by_code(input); known && known->domain) {
      look_up(known->codes, *known->domain);
    } else {
      step.kind = Kind::coded;
      step.inputs = {input};
    }
  }
  step.range = {0, int128{values->overflow_code()}};
  step.values = std::move(values);
  return push(fmt::format("coded {}", steps_.size()), std::move(step));
}

Program::StepIndex Program::converted(StepIndex index, Repr repr) {
  const Repr from = steps_[index].repr;
  if (from == repr || from == Repr::real || from == Repr::text) return index;
  const std::string key = fmt::format("{} {}", repr == Repr::wide ? "widen" : "tighten", index);
  if (const auto known = known_.find(key); known != known_.end()) return known->second;
  Step step;
  step.kind = repr == Repr::wide ? Kind::widen : Kind::tighten;
  step.repr = repr;
  step.range = steps_[index].range;
  step.inputs = {index};
  return push(key, std::move(step));
}

Program::StepIndex Program::add_operation(const NodePtr& node, const std::string& key) {
  const Operation operation = operation_of(*node);
  Step step;
  step.node = node;
  step.kernel = operation.kernel;
  std::vector<Range> ranges;
  bool any_wide = false;
  for (const NodePtr& child : node->children) {
    const StepIndex input = add(child);
    step.inputs.push_back(input);
    ranges.push_back(steps_[input].range);
    any_wide = any_wide || steps_[input].repr == Repr::wide;
  }
  step.range = operation.range(*node, ranges);
  const bool wide_operands = any_wide && operation.operands == Operands::as_result;
  step.repr = repr_of(node->type, step.range.fits_int64() && !wide_operands);
  for (std::size_t i = 0; i < step.inputs.size(); ++i) {
    const bool is_condition = node->op == Op::cases && i % 2 == 0 && i + 1 < step.inputs.size();
    if (is_condition) continue;
    switch (operation.operands) {
      case Operands::as_result:
        if (node->type.is_exact_number()) step.inputs[i] = converted(step.inputs[i], step.repr);
        break;
      case Operands::alike:
        if (any_wide) step.inputs[i] = converted(step.inputs[i], Repr::wide);
        break;
      case Operands::narrow:
        step.inputs[i] = converted(step.inputs[i], Repr::narrow);
        break;
      case Operands::any:
        break;
    }
  }
  return push(key, std::move(step));
}

// --- running --------------------------------------------------------------------------------------------------------

void Program::prepare(Registers& registers) const {
  registers.own_.resize(steps_.size());
  registers.computed_.resize(steps_.size(), 0);
  registers.codes_.resize(codes_.size());
  ++registers.selection_;
}

void Program::begin(std::size_t block, Registers& registers) const {
  prepare(registers);
  registers.block_ = block;
  registers.begin_ = block * store::block_rows;
  registers.count_ = std::min(store::block_rows, rows_ - registers.begin_);
  registers.whole_ = true;
}

void Program::add_read(StepIndex index, CodesSet& read) const {
  read.resize(codes_.size());
  const Step& step = steps_[index];
  switch (step.kind) {
    case Kind::column:
    case Kind::code:
    case Kind::looked_up:
    case Kind::far_code:
      read[step.codes] = true;
      break;
    case Kind::constant:
    case Kind::entries:
    case Kind::leaf:
    case Kind::row:
    case Kind::given:
    case Kind::coded:
    case Kind::widen:
    case Kind::tighten:
    case Kind::operation:
      break;
  }
  for (const StepIndex input : step.inputs) add_read(input, read);
}

void Program::keep(std::span<const std::uint32_t> positions, const CodesSet& later, Registers& registers) const {
  if (positions.size() == registers.count_) return;
  if (registers.whole_) {
    registers.rows_.assign(positions.begin(), positions.end());
  } else {
    for (std::size_t i = 0; i < positions.size(); ++i) registers.rows_[i] = registers.rows_[positions[i]];
    registers.rows_.resize(positions.size());
  }
  registers.whole_ = false;
  registers.count_ = positions.size();
  const std::uint64_t before = registers.selection_++;
  for (std::size_t c = 0; c < registers.codes_.size(); ++c) {
    Registers::BlockCodes& codes = registers.codes_[c];
    if (codes.known == before) codes.known = registers.selection_;
    if (codes.filled != before || !(c < later.size() && later[c])) continue;
    for (std::size_t i = 0; i < positions.size() && !codes.narrow.empty(); ++i)
      codes.narrow[i] = codes.narrow[positions[i]];
    for (std::size_t i = 0; i < positions.size() && !codes.wide.empty(); ++i) codes.wide[i] = codes.wide[positions[i]];
    codes.filled = registers.selection_;
  }
}

const Vector& Program::value(StepIndex index, Registers& registers) const {
  Vector& out = registers.own_[index];
  if (registers.computed_[index] == registers.selection_) return out;
  const Step& step = steps_[index];
  for (const StepIndex input : step.inputs) value(input, registers);
  run_step(step, registers, out);
  registers.computed_[index] = registers.selection_;
  return out;
}

bool Program::may_overflow(StepIndex index) const {
  const Step& step = steps_[index];
  switch (step.kind) {
    case Kind::constant:
    case Kind::leaf:
    case Kind::looked_up:
      return std::find(step.domain->state.begin(), step.domain->state.end(), State::overflow) !=
             step.domain->state.end();
    case Kind::tighten:
      return true;
    case Kind::operation:
      if (step.repr == Repr::wide) return true;
      break;
    case Kind::widen:
    case Kind::column:
    case Kind::code:
    case Kind::entries:
    case Kind::far_code:
    case Kind::row:
    case Kind::given:
    case Kind::coded:
      break;
  }
  return std::any_of(step.inputs.begin(), step.inputs.end(), [&](StepIndex input) { return may_overflow(input); });
}

std::optional<Program::ByCode> Program::by_code(StepIndex index) const {
  const Step& step = steps_[index];
  const bool by_code = step.kind == Kind::looked_up || step.kind == Kind::code || step.kind == Kind::far_code;
  if (!by_code || codes_[step.codes].is_wide) return std::nullopt;
  return ByCode{step.codes, step.domain, step.far};
}

std::optional<std::uint64_t> Program::constant_code(CodesIndex index, Registers& registers) const {
  Registers::BlockCodes& block = registers.codes_[index];
  if (block.known != registers.selection_) {
    const store::Codes::Bounds bounds = codes_[index].codes->bounds(registers.block_);
    block.constant = bounds.low == bounds.high ? std::optional(bounds.low) : std::nullopt;
    block.known = registers.selection_;
  }
  return block.constant;
}

store::Codes::Bounds Program::bounds(CodesIndex index, const Registers& registers) const {
  return codes_[index].codes->bounds(registers.block_);
}

std::size_t Program::runs(CodesIndex index, const Registers& registers, store::Codes::Run* out) const {
  return registers.whole_ ? codes_[index].codes->runs(registers.block_, out) : 0;
}

void Program::fill(CodesIndex index, Registers& registers) const {
  Registers::BlockCodes& block = registers.codes_[index];
  if (block.filled == registers.selection_) return;
  block.filled = registers.selection_;
  const store::Codes& stored = *codes_[index].codes;
  if (!codes_[index].is_wide) {
    block.narrow.resize(store::block_rows);
    if (registers.whole_) {
      stored.decode_block(registers.block_, block.narrow.data());
    } else {
      stored.decode_rows(registers.block_, registers.rows_, block.narrow.data());
    }
    return;
  }
  block.wide.resize(store::block_rows);
  if (registers.whole_) return stored.decode_block(registers.block_, block.wide.data());
  // Few rows are found one by one sooner than a block is decoded.
  if (registers.count_ * 64 < store::block_rows) {
    for (std::size_t i = 0; i < registers.count_; ++i) block.wide[i] = stored.at(registers.begin_ + registers.rows_[i]);
    return;
  }
  std::vector<std::uint64_t>& scratch = registers.wide_scratch_;
  scratch.resize(store::block_rows);
  stored.decode_block(registers.block_, scratch.data());
  for (std::size_t i = 0; i < registers.count_; ++i) block.wide[i] = scratch[registers.rows_[i]];
}

std::size_t Program::find_in(CodesIndex index, Registers& registers, const std::uint32_t* passes,
                             std::uint32_t* out) const {
  std::array<std::uint64_t, store::block_rows / 64> holds;
  // Of short runs, each is looked up once; what a few rows have is found sooner by itself.
  const bool few = registers.count_ * 16 < store::block_rows;
  if (registers.codes_[index].filled != registers.selection_ && !few &&
      codes_[index].codes->test_runs(registers.block_, passes, holds.data())) {
    if (registers.whole_) return base::find_set(holds.data(), registers.count_, out);
    return base::find_in(registers.rows_, reinterpret_cast<const std::uint32_t*>(holds.data()), out);
  }
  return base::find_in(codes(index, registers), passes, out);
}

std::span<const std::uint32_t> Program::codes(CodesIndex index, Registers& registers) const {
  fill(index, registers);
  return std::span(registers.codes_[index].narrow).first(registers.count_);
}

// Calls use(codes) with a pointer to those of the selected rows.
template <class Use>
void Program::with_codes(CodesIndex index, Registers& registers, const Use& use) const {
  fill(index, registers);
  if (codes_[index].is_wide) {
    use(registers.codes_[index].wide.data());
  } else {
    use(registers.codes_[index].narrow.data());
  }
}

// The steps for the one row that is not there: every column is null.
void Program::run_none(Registers& registers) const {
  prepare(registers);
  registers.count_ = 1;
  for (std::size_t i = 0; i < steps_.size(); ++i) {
    const Step& step = steps_[i];
    Vector& out = registers.own_[i];
    registers.computed_[i] = registers.selection_;
    switch (step.kind) {
      case Kind::column:
      case Kind::entries:
        out.reset(step.repr, 1);
        out.state[0] = State::null;
        break;
      case Kind::code:
        out.reset(Repr::narrow, 1);
        out.narrow[0] = static_cast<std::int64_t>(step.column->null_code);
        break;
      case Kind::far_code:
        out.reset(Repr::narrow, 1);
        out.narrow[0] = static_cast<std::int64_t>(step.none);
        break;
      case Kind::row:
        out.reset(Repr::narrow, 1);
        out.narrow[0] = static_cast<std::int64_t>(rows_);
        break;
      case Kind::looked_up:
        out.reset(step.repr, 1);
        copy_value(*step.domain, step.domain->size() - 1, out, 0);
        out.note_states();
        break;
      case Kind::constant:
      case Kind::leaf:
      case Kind::given:
      case Kind::coded:
      case Kind::widen:
      case Kind::tighten:
      case Kind::operation:
        run_step(step, registers, out);
    }
  }
}

void Program::run_step(const Step& step, Registers& registers, Vector& out) const {
  const std::size_t count = registers.count_;
  const std::size_t begin = registers.begin_;
  const auto row_of = [&](std::size_t i) { return begin + (registers.whole_ ? i : registers.rows_[i]); };
  if (step.kind != Kind::constant) out.reset(step.repr, count);
  switch (step.kind) {
    case Kind::constant:  // what stands there from another selection is the same
      out.repr = step.repr;
      with_type(step.repr, [&](auto zero) {
        using T = decltype(zero);
        out.of<T>().resize(count, step.domain->of<T>()[0]);
      });
      out.state.resize(count, step.domain->state[0]);
      out.all_values = step.domain->state[0] == State::value;
      return;
    case Kind::column:
      with_codes(step.codes, registers, [&](const auto* codes) { put_values(*step.column, codes, count, out); });
      break;
    case Kind::code:
      with_codes(step.codes, registers, [&](const auto* codes) { std::copy_n(codes, count, out.narrow.begin()); });
      break;
    case Kind::entries: {
      std::vector<std::uint64_t>& codes = registers.wide_scratch_;
      codes.resize(count);
      std::iota(codes.begin(), codes.end(), begin);
      put_values(*step.column, codes.data(), count, out);
      break;
    }
    case Kind::looked_up:
      if (const auto constant = constant_code(step.codes, registers)) {
        const std::size_t at = *constant;
        with_type(step.repr, [&](auto zero) {
          using T = decltype(zero);
          std::fill_n(out.of<T>().begin(), count, step.domain->of<T>()[at]);
        });
        std::fill(out.state.begin(), out.state.end(), step.domain->state[at]);
        break;
      }
      with_codes(step.codes, registers, [&](const auto* codes) { look_up(*step.domain, codes, count, out); });
      break;
    case Kind::far_code:
      with_codes(step.codes, registers, [&](const auto* codes) {
        if (!step.far) {
          std::copy_n(codes, count, out.narrow.begin());
          return;
        }
        const std::vector<std::uint32_t>& far = step.far->all();
        for (std::size_t i = 0; i < count; ++i) out.narrow[i] = far[codes[i]];
      });
      break;
    case Kind::row:
      for (std::size_t i = 0; i < count; ++i) out.narrow[i] = static_cast<std::int64_t>(row_of(i));
      break;
    case Kind::given:
      for (std::size_t i = 0; i < count; ++i) out.narrow[i] = static_cast<std::int64_t>((*step.given)[row_of(i)]);
      break;
    case Kind::leaf:
      with_type(step.repr, [&](auto zero) {
        using T = decltype(zero);
        std::copy_n(step.domain->of<T>().begin() + static_cast<std::ptrdiff_t>(begin), count, out.of<T>().begin());
      });
      std::copy_n(step.domain->state.begin() + static_cast<std::ptrdiff_t>(begin), count, out.state.begin());
      break;
    case Kind::coded:
      step.values->find(value(step.inputs[0], registers), out.narrow.data());
      break;
    case Kind::widen: {
      const Vector& in = value(step.inputs[0], registers);
      std::copy(in.narrow.begin(), in.narrow.begin() + static_cast<std::ptrdiff_t>(count), out.wide.begin());
      out.state = in.state;
      break;
    }
    case Kind::tighten: {
      const Vector& in = value(step.inputs[0], registers);
      for (std::size_t i = 0; i < count; ++i) {
        const bool fits = in.state[i] != State::value || base::fits_int64(in.wide[i]);
        out.state[i] = fits ? in.state[i] : State::overflow;
        out.narrow[i] = static_cast<std::int64_t>(in.wide[i]);
      }
      break;
    }
    case Kind::operation: {
      std::vector<const Vector*> inputs;
      inputs.reserve(step.inputs.size());
      for (const StepIndex input : step.inputs) inputs.push_back(&value(input, registers));
      step.kernel(*step.node, inputs, source_.setting, out);
      break;
    }
  }
  out.note_states();
#ifndef NDEBUG
  check_range(step.range, out);
#endif
}

namespace {

void append_rows(const Vector& from, Vector& to) {
  to.repr = from.repr;
  const std::size_t count = from.size();
  to.state.insert(to.state.end(), from.state.begin(), from.state.end());
  with_type(from.repr, [&](auto zero) {
    using T = decltype(zero);
    const auto& values = from.of<T>();
    if constexpr (std::is_same_v<T, std::string_view>) {
      // Texts that the block owns are gone with its next run: keep copies of those, views of dictionaries as they are.
      for (std::size_t i = 0; i < count; ++i) {
        to.text.push_back(from.owned.empty() || from.state[i] != State::value
                              ? values[i]
                              : std::string_view(to.owned.emplace_back(values[i])));
      }
    } else {
      to.of<T>().insert(to.of<T>().end(), values.begin(), values.begin() + static_cast<std::ptrdiff_t>(count));
    }
  });
}

}  // namespace

Vector Program::evaluate(StepIndex step, unsigned threads) const {
  Vector all;
  const Repr repr = steps_[step].repr;
  if (repr == Repr::text) {
    all.reset(repr, 0);
    Registers registers;
    for (std::size_t block = 0; block < blocks(); ++block) {
      begin(block, registers);
      append_rows(value(step, registers), all);
    }
    all.note_states();
    return all;
  }
  all.reset(repr, rows_);
  constexpr std::size_t blocks_per_part = 32;
  base::parallel_for((blocks() + blocks_per_part - 1) / blocks_per_part, threads, [&](std::size_t part) {
    Registers registers;
    source_.check();
    const std::size_t end = std::min(blocks(), (part + 1) * blocks_per_part);
    for (std::size_t block = part * blocks_per_part; block < end; ++block) {
      begin(block, registers);
      const Vector& values = value(step, registers);
      const auto at = static_cast<std::ptrdiff_t>(block * store::block_rows);
      std::copy(values.state.begin(), values.state.end(), all.state.begin() + at);
      with_type(repr, [&](auto zero) {
        const auto& from = values.of<decltype(zero)>();
        std::copy(from.begin(), from.begin() + static_cast<std::ptrdiff_t>(values.size()),
                  all.of<decltype(zero)>().begin() + at);
      });
    }
  });
  all.note_states();
  return all;
}

// All rows, and behind them the row that is not there.
Vector Program::evaluate_with_none(StepIndex step) const {
  Vector all = evaluate(step, source_.threads);
  Registers registers;
  run_none(registers);
  append_rows(registers.own_[step], all);
  all.note_states();
  return all;
}

}  // namespace juniper::engine
