#include "engine/row_test.h"

#include <algorithm>
#include <numeric>

#include "base/passes.h"

namespace juniper::engine {

RowTest::RowTest(Program& program, const language::NodePtr& condition) {
  if (auto truth = program.add_truth(condition)) {
    by_code_ = true;
    codes_ = truth->codes;
    passes_ = std::move(truth->passes);
    find_ends();
  } else {
    condition_ = program.add(condition);
  }
}

void RowTest::find_ends() {
  const auto first = std::find(passes_.begin(), passes_.end(), 1);
  low_ = 1;
  high_ = 0;
  is_range_ = true;
  if (first == passes_.end()) return;
  const auto behind = std::find(passes_.rbegin(), passes_.rend(), 1).base();
  low_ = static_cast<std::uint32_t>(first - passes_.begin());
  high_ = static_cast<std::uint32_t>(behind - passes_.begin() - 1);
  is_range_ = std::find(first, behind, 0) == behind;
}

void RowTest::join(std::vector<RowTest>& tests) {
  for (std::size_t i = 0; i < tests.size(); ++i) {
    for (std::size_t j = tests.size(); tests[i].by_code_ && j-- > i + 1;) {
      if (!tests[j].by_code_ || tests[j].codes_ != tests[i].codes_) continue;
      for (std::size_t code = 0; code < tests[i].passes_.size(); ++code)
        tests[i].passes_[code] = tests[i].passes_[code] & tests[j].passes_[code];
      tests[i].find_ends();
      tests.erase(tests.begin() + static_cast<std::ptrdiff_t>(j));
    }
  }
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
  const auto codes = program.codes(codes_, registers);
  return is_range_ ? base::find_between(codes, low_, high_, found.data())
                   : base::find_in(codes, passes_.data(), found.data());
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
