// The loops that are compiled for each set of instructions, with each that this processor has.
#pragma once

#include <gtest/gtest.h>
#include <hwy/targets.h>

#include "base/instructions.h"

namespace juniper::test {

// Calls `check` with each set of instructions in turn.
template <class Check>
void at_every_level(const Check& check) {
  const std::int64_t here = base::instructions_here();
  for (std::int64_t left = here & HWY_TARGETS; left != 0; left &= left - 1) {
    const std::int64_t set = left & -left;
    SCOPED_TRACE(hwy::TargetName(set));
    base::chosen_instructions().Update(set);
    check();
  }
  base::chosen_instructions().Update(here);
}

}  // namespace juniper::test
