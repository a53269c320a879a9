#include "engine/scan/row_test.h"

#include <algorithm>
#include <bit>
#include <numeric>
#include <utility>

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

void RowTest::order(std::vector<RowTest>& tests) {
  std::stable_sort(tests.begin(), tests.end(), [](const RowTest& a, const RowTest& b) {
    return a.by_code_ && (!b.by_code_ || a.share_ < b.share_);
  });
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
  const auto codes = program.codes(codes_, registers);
  return is_range_ ? base::find_between(codes, low_, high_, found.data())
                   : base::find_in(codes, passes_.words().data(), found.data());
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
