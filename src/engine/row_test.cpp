#include "engine/row_test.h"

#include <algorithm>

#include "base/passes.h"

namespace juniper::engine {

RowTest::RowTest(const Program& program, Program::StepIndex condition) : condition_(condition) {
  const auto by_code = program.by_code(condition);
  if (!by_code || !by_code->domain) return;
  const Vector& domain = *by_code->domain;
  if (std::find(domain.state.begin(), domain.state.end(), State::overflow) != domain.state.end()) return;
  by_code_ = true;
  codes_ = by_code->codes;
  passes_.resize(domain.size());
  std::size_t count = 0;
  for (std::size_t code = 0; code < domain.size(); ++code) {
    if (!domain.is_true(code)) continue;
    passes_[code] = 1;
    if (count++ == 0) low_ = static_cast<std::uint32_t>(code);
    high_ = static_cast<std::uint32_t>(code);
  }
  is_range_ = count == 0 || high_ - low_ + std::size_t{1} == count;
}

bool RowTest::select(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found) const {
  if (!by_code_) return select_by_value(program, registers, found);
  const auto none = [&] { program.keep({}, registers); };
  const store::Codes::Bounds bounds = program.bounds(codes_, registers);
  if (low_ > high_ || bounds.high < low_ || high_ < bounds.low) {
    none();
    return false;
  }
  if (is_range_ && low_ <= bounds.low && bounds.high <= high_) return false;
  if (const auto constant = program.constant_code(codes_, registers)) {
    if (passes_[*constant] == 0) none();
    return false;
  }
  const auto codes = program.codes(codes_, registers);
  const std::size_t count = is_range_ ? base::find_between(codes, low_, high_, found.data())
                                      : base::find_in(codes, passes_.data(), found.data());
  program.keep(std::span(found).first(count), registers);
  return false;
}

bool RowTest::select_by_value(const Program& program, Program::Registers& registers,
                              std::vector<std::uint32_t>& found) const {
  const Vector& holds = program.value(condition_, registers);
  const bool overflow =
      !holds.all_values && std::find(holds.state.begin(), holds.state.end(), State::overflow) != holds.state.end();
  std::size_t count = 0;
  for (std::uint32_t i = 0; i < holds.size(); ++i) {
    found[count] = i;
    count += holds.is_true(i) ? 1 : 0;
  }
  program.keep(std::span(found).first(count), registers);
  return overflow;
}

}  // namespace juniper::engine
