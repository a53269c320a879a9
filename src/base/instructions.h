// Loops compiled once for each set of instructions, and which of the sets this processor has.
//
// Highway's headers do the compiling; its library could choose, too, but measures a clock for 5 ms at the start of
// every program that is linked with it, as long as a small answer takes.
#pragma once

#include <hwy/targets.h>

#include <cstdint>
#include <utility>

namespace juniper::base {

// The sets that this processor has, as bits of Highway's targets. Of processors that are not x86, those that every
// program for them is compiled for.
std::int64_t instructions_here();

// The sets to choose from: those that are here, unless a test says otherwise.
hwy::ChosenTarget& chosen_instructions();

// A function as it was compiled for each set; a call goes to the widest of the chosen sets.
template <class Function>
struct Widest {
  Function* by_set[HWY_MAX_DYNAMIC_TARGETS + 2];

  template <class... Arguments>
  decltype(auto) operator()(Arguments&&... arguments) const {
    return by_set[chosen_instructions().GetIndex()](std::forward<Arguments>(arguments)...);
  }
};

}  // namespace juniper::base

// Defines `name`, the Widest of a `function` of HWY_NAMESPACE. Stands where HWY_ONCE holds, in the namespace around.
#define JUNIPER_WIDEST(name, function)                                            \
  constexpr juniper::base::Widest<decltype(HWY_STATIC_DISPATCH(function))> name { \
    { nullptr, HWY_CHOOSE_TARGET_LIST(function), HWY_CHOOSE_FALLBACK(function) }  \
  }
