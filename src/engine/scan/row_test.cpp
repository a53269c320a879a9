#include "engine/scan/row_test.h"

#include <algorithm>
#include <bit>
#include <numeric>
#include <utility>

#include "base/passes.h"
#include "language/traverse.h"

namespace juniper::engine {

namespace {

using language::ColumnRef;
using language::Node;
using language::NodePtr;
using language::Op;

// What one code tells of: a column of the table, or the row that a link leads to.
struct Place {
  std::optional<language::LinkIndex> link;
  language::ColumnId column;
  bool operator==(const Place&) const = default;
};

Place place_of(const ColumnRef& ref) {
  return ref.path.empty() ? Place{std::nullopt, ref.column} : Place{ref.path.front(), {}};
}

// Where all columns of an expression stand in one place: that place.
std::optional<Place> place_of(const NodePtr& node) {
  const std::vector<ColumnRef> refs = language::column_refs(node);
  if (refs.empty()) return std::nullopt;
  const Place first = place_of(refs.front());
  const bool alone =
      std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& ref) { return place_of(ref) == first; });
  return alone ? std::optional(first) : std::nullopt;
}

NodePtr joined(Op op, const NodePtr& a, const NodePtr& b) {
  auto node = std::make_shared<Node>();
  node->op = op;
  node->type = {TypeKind::boolean, 0};
  node->span = a->span;
  node->children = {a, b};
  return node;
}

// What a condition demands of one place; nothing: it can be true whatever stands there.
NodePtr demanded(const NodePtr& condition, const Place& place) {
  if (condition->op != Op::and_ && condition->op != Op::or_) return place_of(condition) == place ? condition : nullptr;
  const NodePtr a = demanded(condition->children[0], place);
  const NodePtr b = demanded(condition->children[1], place);
  if (a && b) return joined(condition->op, a, b);
  return condition->op == Op::and_ ? (a ? a : b) : nullptr;
}

void add_places(const NodePtr& condition, std::vector<Place>& places) {
  if (condition->op == Op::and_ || condition->op == Op::or_) {
    for (const NodePtr& child : condition->children) add_places(child, places);
    return;
  }
  const auto place = place_of(condition);
  if (place && std::find(places.begin(), places.end(), *place) == places.end()) places.push_back(*place);
}

}  // namespace

RowTest::RowTest(Program& program, const NodePtr& condition) {
  if (auto truth = program.add_truth(condition)) {
    *this = RowTest(std::move(*truth));
  } else {
    condition_ = program.add(condition);
  }
}

RowTest::RowTest(Program::Truth truth) : by_code_(true), codes_(truth.codes), passes_(std::move(truth.passes)) {
  find_ends();
}

std::vector<RowTest> RowTest::implied(Program& program, const NodePtr& condition) {
  std::vector<RowTest> tests;
  std::vector<Place> places;
  add_places(condition, places);
  for (const Place& place : places) {
    const NodePtr part = demanded(condition, place);
    auto truth = part ? program.add_truth(part, true) : std::nullopt;
    if (truth) tests.push_back(RowTest(std::move(*truth)));
  }
  return tests;
}

std::optional<RowTest> RowTest::of_key(const Program& program, Program::StepIndex key,
                                       const base::PackedTable& wanted) {
  const auto step = program.by_code(key);
  if (!step) return std::nullopt;
  if (!step->has_table()) return RowTest(Program::Truth{step->codes, wanted});
  base::PackedTable passes(step->table_size(), 1);
  const auto note = [&](std::size_t code, std::uint64_t stands_for) {
    if (stands_for < wanted.size() && wanted[stands_for] != 0) passes.add(code, 1);
  };
  if (step->domain) {
    const std::span<const std::uint64_t> codes = step->domain->codes();
    for (std::size_t code = 0; code < codes.size(); ++code) note(code, codes[code]);
  } else {
    const std::vector<std::uint32_t>& codes = step->far->all();
    for (std::size_t code = 0; code < codes.size(); ++code) note(code, codes[code]);
  }
  return RowTest(Program::Truth{step->codes, std::move(passes)});
}

std::vector<RowTest> tests_of(Program& program, const std::vector<NodePtr>& conditions,
                              const std::vector<Program::StepIndex>& keys, const std::vector<WantedCodes>& wanted) {
  std::vector<RowTest> tests;
  for (std::size_t k = 0; k < wanted.size(); ++k) {
    auto test = wanted[k] ? RowTest::of_key(program, keys[k], *wanted[k]) : std::nullopt;
    if (test) tests.push_back(std::move(*test));
  }
  for (const NodePtr& condition : conditions) {
    RowTest test(program, condition);
    if (!test.looks_up()) {
      for (RowTest& implied : RowTest::implied(program, condition)) tests.push_back(std::move(implied));
    }
    tests.push_back(std::move(test));
  }
  RowTest::join(tests);
  std::stable_sort(tests.begin(), tests.end(), [](const RowTest& a, const RowTest& b) {
    return a.looks_up() && (!b.looks_up() || a.share() < b.share());
  });
  return tests;
}

void RowTest::find_ends() {
  low_ = 1;
  high_ = 0;
  std::size_t count = 0;
  const std::span<const std::uint32_t> words = std::as_const(passes_).words();
  for (std::size_t w = 0; w < words.size(); ++w) {
    if (words[w] == 0) continue;
    if (count == 0) low_ = static_cast<std::uint32_t>(w * 32) + static_cast<unsigned>(std::countr_zero(words[w]));
    high_ = static_cast<std::uint32_t>(w * 32) + static_cast<unsigned>(std::bit_width(words[w])) - 1;
    count += static_cast<std::size_t>(std::popcount(words[w]));
  }
  is_range_ = count == 0 || count == std::size_t{high_} - low_ + 1;
  share_ = static_cast<double>(count) / static_cast<double>(std::max<std::size_t>(passes_.size(), 1));
}

void RowTest::join(std::vector<RowTest>& tests) {
  for (std::size_t i = 0; i < tests.size(); ++i) {
    for (std::size_t j = tests.size(); tests[i].by_code_ && j-- > i + 1;) {
      if (!tests[j].by_code_ || tests[j].codes_ != tests[i].codes_) continue;
      const std::span<const std::uint32_t> also = std::as_const(tests[j].passes_).words();
      const std::span<std::uint32_t> words = tests[i].passes_.words();
      for (std::size_t w = 0; w < words.size(); ++w) words[w] &= also[w];
      tests[i].find_ends();
      tests.erase(tests.begin() + static_cast<std::ptrdiff_t>(j));
    }
  }
}

void RowTest::add_read(const Program& program, Program::CodesSet& read) const {
  if (!by_code_) return program.add_read(condition_, read);
  read.resize(std::max<std::size_t>(read.size(), codes_ + 1));
  read[codes_] = true;
}

std::size_t RowTest::find(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                          std::vector<std::uint32_t>* overflowed) const {
  if (!by_code_) return find_by_value(program, registers, found, *overflowed);
  const store::Codes::Bounds bounds = program.bounds(codes_, registers);
  if (low_ > high_ || bounds.high < low_ || high_ < bounds.low) return 0;
  const auto constant = program.constant_code(codes_, registers);
  if (constant && passes_[*constant] == 0) return 0;
  if (constant || (is_range_ && low_ <= bounds.low && bounds.high <= high_)) {
    std::iota(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(registers.count()), 0U);
    return registers.count();
  }
  if (is_range_ && !program.has_short_runs(codes_, registers))
    return base::find_between(program.codes(codes_, registers), low_, high_, found.data());
  return program.find_in(codes_, registers, passes_.words().data(), found.data());
}

std::size_t RowTest::find_by_value(const Program& program, Program::Registers& registers,
                                   std::vector<std::uint32_t>& found, std::vector<std::uint32_t>& overflowed) const {
  const Vector& holds = program.value(condition_, registers);
  std::size_t count = 0;
  for (std::uint32_t i = 0; i < holds.size(); ++i) {
    found[count] = i;
    count += holds.is_true(i) ? 1 : 0;
  }
  if (holds.all_values) return count;
  for (std::uint32_t i = 0; i < holds.size(); ++i) {
    if (holds.state[i] == State::overflow) overflowed.push_back(i);
  }
  return count;
}

}  // namespace juniper::engine
