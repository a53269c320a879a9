// A condition on the rows of a block. One that depends on a single code is looked up by it; where the codes that pass
// are all within a range, rows are compared with its ends, and blocks that lie on one side of it are not read at all.
#pragma once

#include <vector>

#include "engine/program.h"

namespace juniper::engine {

class RowTest {
 public:
  RowTest(const Program& program, Program::StepIndex condition);

  // Narrows the selection down to the rows for which the condition is true. `found` has room for the rows of a block
  // and 16 more. True if it overflows in a selected row.
  bool select(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found) const;

 private:
  bool select_by_value(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found) const;

  Program::StepIndex condition_;
  bool by_code_ = false;
  Program::CodesIndex codes_ = 0;
  std::vector<std::uint8_t> passes_;  // by code
  // The first and the last code that pass, and whether all between them do. None: low_ > high_.
  std::uint32_t low_ = 1;
  std::uint32_t high_ = 0;
  bool is_range_ = true;
};

}  // namespace juniper::engine
