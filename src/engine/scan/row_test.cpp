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
  } else if (auto compared = two_codes(program, *condition)) {
    two_codes_ = compared;
  } else {
    condition_ = program.add(condition);
  }
}

RowTest::RowTest(Program::Truth truth) : by_code_(true), codes_(truth.codes), passes_(std::move(truth.passes)) {
  find_ends();
}

std::optional<RowTest::TwoCodes> RowTest::two_codes(Program& program, const Node& condition) {
  TwoCodes compared;
  compared.how.less = condition.op == Op::less || condition.op == Op::less_equal || condition.op == Op::not_equal;
  compared.how.equal = condition.op == Op::equal || condition.op == Op::less_equal;
  compared.how.greater = condition.op == Op::not_equal;
  if (!compared.how.less && !compared.how.equal) return std::nullopt;
  const store::Column* columns[2];
  for (const std::size_t side : {0U, 1U}) {
    const Node& node = *condition.children[side];
    if (node.op != Op::column || !node.column.path.empty()) return std::nullopt;
    columns[side] = program.stored_column(node.column.column);
    if (columns[side] == nullptr) return std::nullopt;
  }
  const store::Column& a = *columns[0];
  const store::Column& b = *columns[1];
  const int128 apart = int128{a.base} - b.base;
  constexpr int128 most = std::int64_t{1} << 30;
  const bool alike = a.type == b.type && a.layout == store::Layout::offset && b.layout == store::Layout::offset &&
                     a.step == b.step && apart % static_cast<int128>(a.step) == 0 && a.null_code < most &&
                     b.null_code < most;
  if (!alike) return std::nullopt;
  const int128 shift = apart / static_cast<int128>(a.step);
  if (shift < -most || shift > most) return std::nullopt;
  compared.how.shift = static_cast<std::int32_t>(shift);
  compared.how.null_a = static_cast<std::uint32_t>(a.null_code);
  compared.how.null_b = static_cast<std::uint32_t>(b.null_code);
  compared.a = program.add_column_codes(a);
  compared.b = program.add_column_codes(b);
  return compared;
}

std::vector<RowTest> RowTest::implied(Program& program, const NodePtr& condition) {
  std::vector<RowTest> tests;
  std::vector<Place> places;
  add_places(condition, places);
  for (const Place& place : places) {
    const NodePtr part = demanded(condition, place);
    auto truth = part ? program.add_truth(part, true) : std::nullopt;
    if (!truth) continue;
    tests.push_back(RowTest(std::move(*truth)));
    tests.back().is_implied_ = true;
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

// In about the work of unpacking a bit. A look-up takes as much as 28 of them; of few rows, each is picked by itself.
double RowTest::work_to_drop(const Program& program, double rows) const {
  constexpr double look_up = 28;
  constexpr double pick = 60;
  const double work = rows < 0.25 ? pick : look_up + program.bits_of_row(codes_);
  return work / std::max(1 - share_, 1e-9);
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
  std::stable_sort(tests.begin(), tests.end(), [](const RowTest& a, const RowTest& b) { return a.kind() < b.kind(); });
  double left = 1;  // the share of rows that the tests so far are expected to leave
  for (auto next = tests.begin(); next != tests.end() && next->looks_up(); ++next) {
    const auto behind = std::find_if(next, tests.end(), [](const RowTest& test) { return !test.looks_up(); });
    const auto best = std::min_element(next, behind, [&](const RowTest& a, const RowTest& b) {
      return a.work_to_drop(program, left) < b.work_to_drop(program, left);
    });
    std::rotate(next, best, best + 1);
    left *= next->share();
  }
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
  if (two_codes_) {
    read.resize(std::max<std::size_t>({read.size(), two_codes_->a + std::size_t{1}, two_codes_->b + std::size_t{1}}));
    read[two_codes_->a] = true;
    read[two_codes_->b] = true;
    return;
  }
  if (!by_code_) return program.add_read(condition_, read);
  read.resize(std::max<std::size_t>(read.size(), codes_ + 1));
  read[codes_] = true;
}

// Of the codes of a block's bounds that there are, how many pass.
std::size_t RowTest::passing_between(const store::Codes::Bounds& bounds) const {
  const std::span<const std::uint32_t> words = passes_.words();
  const std::size_t last = std::min<std::size_t>(bounds.high, passes_.size() - 1);
  std::size_t passing = 0;
  for (std::size_t w = bounds.low / 32; w <= last / 32; ++w) {
    std::uint32_t bits = words[w];
    if (w == bounds.low / 32) bits &= ~std::uint32_t{0} << bounds.low % 32;
    if (w == last / 32) bits &= ~std::uint32_t{0} >> (31 - last % 32);
    passing += static_cast<std::size_t>(std::popcount(bits));
  }
  return passing;
}

std::size_t RowTest::find(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                          std::vector<std::uint32_t>* overflowed) const {
  if (two_codes_) {
    const std::span<const std::uint32_t> a = program.codes(two_codes_->a, registers);
    return base::find_compared(a, program.codes(two_codes_->b, registers).data(), two_codes_->how, found.data());
  }
  if (!by_code_) return find_by_value(program, registers, found, *overflowed);
  const store::Codes::Bounds bounds = program.bounds(codes_, registers);
  if (low_ > high_ || bounds.high < low_ || high_ < bounds.low) return 0;
  const auto constant = program.constant_code(codes_, registers);
  if (constant && passes_[*constant] == 0) return 0;
  if (constant || (is_range_ && low_ <= bounds.low && bounds.high <= high_)) {
    std::iota(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(registers.count()), 0U);
    return registers.count();
  }
  // Where a table is clustered by what is looked up, most blocks hold nothing of a few far rows, or nothing else.
  if (!is_range_ && bounds.high - bounds.low <= std::min<std::uint64_t>(near_codes, passes_.size() / 4)) {
    const std::size_t passing = passing_between(bounds);
    if (passing == 0) return 0;
    if (passing == bounds.high - bounds.low + 1) {
      std::iota(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(registers.count()), 0U);
      return registers.count();
    }
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
