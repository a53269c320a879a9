// A condition on the rows of a block. One that depends on a single code is looked up by it; where the codes that pass
// are all within a range, rows are compared with its ends, and blocks that lie on one side of it are not read at all. One
// that compares two columns compares their codes, where these are numbers of one kind.
#pragma once

#include <optional>
#include <vector>

#include "engine/program/program.h"
#include "engine/scan/scan.h"

namespace juniper::engine {

class RowTest {
 public:
  RowTest(Program& program, const language::NodePtr& condition);
  // What a condition that has to be computed says of single codes: of `(a and b) or (c and d)`, where a and c are about
  // one code, that a or c is not false. Rows that fail one of these fail the condition; it never overflows there.
  static std::vector<RowTest> implied(Program& program, const language::NodePtr& condition);

  // That the code of a key is wanted; nothing where that can't be looked up.
  static std::optional<RowTest> of_key(const Program& program, Program::StepIndex key, const base::PackedTable& wanted);

  // Of an `or` that was taken apart.
  bool is_implied() const { return is_implied_; }
  bool looks_up() const { return by_code_; }
  // Of the codes that it looks up, the share that pass.
  double share() const { return share_; }
  // False only if it overflows for no row.
  bool may_overflow(const Program& program) const {
    return !by_code_ && !two_codes_ && program.may_overflow(condition_);
  }
  // What comes first: those that look up, those that compare two columns, those that compute.
  int kind() const { return by_code_ ? 0 : (two_codes_ ? 1 : 2); }
  // Of one that looks up, how much work it is for each row that it drops, where so large a share of all rows is left.
  double work_to_drop(const Program& program, double rows) const;
  // Makes one of tests that are all to be passed and look at the same codes.
  static void join(std::vector<RowTest>& tests);
  // Adds the codes that it reads.
  void add_read(const Program& program, Program::CodesSet& read) const;

  // Writes the positions of the selected rows for which the condition is true to `found`, which has room for the rows
  // of a block and 16 more, and returns how many they are; and appends those where it overflows to `overflowed`.
  std::size_t find(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                   std::vector<std::uint32_t>* overflowed) const;

 private:
  explicit RowTest(Program::Truth truth);
  void find_ends();
  std::size_t passing_between(const store::Codes::Bounds& bounds) const;
  // Blocks whose codes lie so close together are compared with the bits between before they are read.
  static constexpr std::uint64_t near_codes = 8192;
  std::size_t find_by_value(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& found,
                            std::vector<std::uint32_t>& overflowed) const;

  // Where the condition compares two columns whose codes can be compared as they are.
  struct TwoCodes {
    Program::CodesIndex a = 0;
    Program::CodesIndex b = 0;
    base::Compared how;
  };
  static std::optional<TwoCodes> two_codes(Program& program, const language::Node& condition);

  std::optional<TwoCodes> two_codes_;
  Program::StepIndex condition_ = 0;
  bool by_code_ = false;
  Program::CodesIndex codes_ = 0;
  base::PackedTable passes_;  // by code
  // The first and the last code that pass, and whether all between them do. None: low_ > high_.
  std::uint32_t low_ = 1;
  std::uint32_t high_ = 0;
  bool is_range_ = true;
  double share_ = 1;
  bool is_implied_ = false;
};

// The tests of conditions that are all to be true, in the order in which they are made: in front those that drop the most
// rows for their work, behind which others look at few; then those that compare two columns; those that have to compute stay in
// their order behind all others.
// Of keys, those that `wanted` (for the first of them) asks for are left.
std::vector<RowTest> tests_of(Program& program, const std::vector<language::NodePtr>& conditions,
                              const std::vector<Program::StepIndex>& keys = {},
                              const std::vector<WantedCodes>& wanted = {});

}  // namespace juniper::engine
