// A condition on the rows of a block. One that depends on a single code is looked up by it; where the codes that pass
// are all within a range, rows are compared with its ends, and blocks that lie on one side of it are not read at all.
#pragma once

#include <vector>

#include "engine/program/program.h"

namespace juniper::engine {

class RowTest {
 public:
  RowTest(Program& program, const language::NodePtr& condition);

  // Makes one of tests that are all to be passed and look at the same codes.
  static void join(std::vector<RowTest>& tests);

  // Puts the tests that leave the fewest rows in front, behind which others look at few; those that have to compute stay
  // in their order behind the ones that look a code up.
  static void order(std::vector<RowTest>& tests);
  // Adds the codes that it reads.
  void add_read(const Program& program, Program::CodesSet& read) const;

  // Writes the positions of the selected rows for which the condition is true to `found`, which has room for the rows
  // of a block and 16 more, and returns how many they are; and appends those where it overflows to `overflowed`.
  std::size_t find(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                   std::vector<std::uint32_t>* overflowed) const;

 private:
  void find_ends();
  std::size_t find_by_value(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                            std::vector<std::uint32_t>& overflowed) const;

  Program::StepIndex condition_ = 0;
  bool by_code_ = false;
  Program::CodesIndex codes_ = 0;
  base::PackedTable passes_;  // by code
  // The first and the last code that pass, and whether all between them do. None: low_ > high_.
  std::uint32_t low_ = 1;
  std::uint32_t high_ = 0;
  bool is_range_ = true;
  double share_ = 1;  // of the codes that pass
};

}  // namespace juniper::engine
