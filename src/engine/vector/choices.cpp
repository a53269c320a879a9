#include "engine/vector/choices.h"

#include <vector>

#include "base/instructions.h"

// This file is compiled once for each set of instructions; the best one is chosen when the program runs.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "engine/vector/choices.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace juniper::engine {
namespace HWY_NAMESPACE {

// The loops have no branches and no calls, so that the compiler makes vector instructions of them.

void mark_true_here(const std::int64_t* HWY_RESTRICT numbers, const State* HWY_RESTRICT states, std::size_t count,
                    std::uint8_t* HWY_RESTRICT marks) {
  for (std::size_t i = 0; i < count; ++i) marks[i] = numbers[i] != 0 ? 255 : 0;
  for (std::size_t i = 0; i < count; ++i) marks[i] &= states[i] == State::value ? 255 : 0;
}

template <class T>
HWY_INLINE void choose_all(const std::uint8_t* HWY_RESTRICT marks, std::size_t count, const T* HWY_RESTRICT from,
                           T* HWY_RESTRICT to) {
  for (std::size_t i = 0; i < count; ++i) to[i] = marks[i] != 0 ? from[i] : to[i];
}

void choose_numbers(const std::uint8_t* marks, std::size_t count, const std::int64_t* from, std::int64_t* to) {
  choose_all(marks, count, from, to);
}

void choose_reals(const std::uint8_t* marks, std::size_t count, const double* from, double* to) {
  choose_all(marks, count, from, to);
}

void choose_states(const std::uint8_t* marks, std::size_t count, const State* from, State* to) {
  choose_all(marks, count, from, to);
}

// What a condition says, so that of two the smaller one holds: the value that decides, overflow, null, the other value.
enum Says : std::uint8_t { decides, overflows, is_null, leaves };

void what_it_says(const std::int64_t* HWY_RESTRICT numbers, const State* HWY_RESTRICT states, std::size_t count,
                  std::int64_t deciding, std::uint8_t* HWY_RESTRICT said) {
  for (std::size_t i = 0; i < count; ++i) said[i] = numbers[i] == deciding ? decides : leaves;
  for (std::size_t i = 0; i < count; ++i) {
    const std::uint8_t state = states[i] == State::overflow ? overflows : is_null;
    said[i] = states[i] == State::value ? said[i] : state;
  }
}

void what_holds(const std::uint8_t* HWY_RESTRICT a, const std::uint8_t* HWY_RESTRICT b, std::size_t count,
                std::int64_t deciding, std::int64_t* HWY_RESTRICT numbers, State* HWY_RESTRICT states) {
  for (std::size_t i = 0; i < count; ++i) {
    const std::uint8_t least = a[i] < b[i] ? a[i] : b[i];
    const State open = least == overflows ? State::overflow : State::value;
    states[i] = least == is_null ? State::null : open;
  }
  for (std::size_t i = 0; i < count; ++i) {
    const std::uint8_t least = a[i] < b[i] ? a[i] : b[i];
    numbers[i] = least == decides ? deciding : 1 - deciding;
  }
}

void all_of_both(const std::int64_t* HWY_RESTRICT a, const std::int64_t* HWY_RESTRICT b, std::size_t count,
                 std::int64_t* HWY_RESTRICT out) {
  for (std::size_t i = 0; i < count; ++i) out[i] = a[i] & b[i];
}

void any_of_both(const std::int64_t* HWY_RESTRICT a, const std::int64_t* HWY_RESTRICT b, std::size_t count,
                 std::int64_t* HWY_RESTRICT out) {
  for (std::size_t i = 0; i < count; ++i) out[i] = a[i] | b[i];
}

}  // namespace HWY_NAMESPACE
}  // namespace juniper::engine
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace juniper::engine {

JUNIPER_WIDEST(widest_mark_true, mark_true_here);
JUNIPER_WIDEST(widest_choose_numbers, choose_numbers);
JUNIPER_WIDEST(widest_choose_reals, choose_reals);
JUNIPER_WIDEST(widest_choose_states, choose_states);
JUNIPER_WIDEST(widest_says, what_it_says);
JUNIPER_WIDEST(widest_holds, what_holds);
JUNIPER_WIDEST(widest_all, all_of_both);
JUNIPER_WIDEST(widest_any, any_of_both);

void mark_true(const Vector& condition, std::span<std::uint8_t> marks) {
  widest_mark_true(condition.narrow.data(), condition.state.data(), marks.size(), marks.data());
}

void choose(std::span<const std::uint8_t> marks, const std::int64_t* from, std::int64_t* to) {
  widest_choose_numbers(marks.data(), marks.size(), from, to);
}

void choose(std::span<const std::uint8_t> marks, const double* from, double* to) {
  widest_choose_reals(marks.data(), marks.size(), from, to);
}

void choose(std::span<const std::uint8_t> marks, const State* from, State* to) {
  widest_choose_states(marks.data(), marks.size(), from, to);
}

void combine(const Vector& a, const Vector& b, bool deciding, Vector& out) {
  const std::size_t count = out.size();
  if (a.all_values && b.all_values) {  // booleans are 0 and 1
    const auto& both = deciding ? widest_any : widest_all;
    return both(a.narrow.data(), b.narrow.data(), count, out.narrow.data());
  }
  const std::int64_t wanted = deciding ? 1 : 0;
  std::vector<std::uint8_t> says(2 * count);
  std::uint8_t* const says_b = says.data() + count;
  widest_says(a.narrow.data(), a.state.data(), count, wanted, says.data());
  widest_says(b.narrow.data(), b.state.data(), count, wanted, says_b);
  widest_holds(says.data(), says_b, count, wanted, out.narrow.data(), out.state.data());
}

}  // namespace juniper::engine
#endif
