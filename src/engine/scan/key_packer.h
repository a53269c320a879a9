// The codes of a group's keys packed into one number, row by row. Keys behind the same link, or of the same column, are
// packed once for each of its codes and looked up together.
#pragma once

#include <optional>
#include <variant>
#include <vector>

#include "base/piece_table.h"
#include "engine/program/program.h"
#include "engine/scan/scan.h"

namespace juniper::engine {

class KeyPacker {
 public:
  // `keys` are steps that hold the codes of the layout's columns.
  KeyPacker(const Program& program, const KeyLayout& layout, const std::vector<Program::StepIndex>& keys);

  // Adds the codes that it reads.
  void add_read(const Program& program, Program::CodesSet& read) const;

  // Writes the packed keys of the selected rows, which fit a Key. True if all of them are equal: then the first alone
  // is written.
  template <class Key>
  bool pack(const Program& program, Program::Registers& registers, Key* keys) const;
  // Rows of a block that stand together and have one key, up to position `end`.
  struct Run {
    PackedKey key = 0;
    std::size_t end = 0;
  };
  // The runs of a whole block whose keys change a few times at most; false for any other.
  bool find_runs(const Program& program, Program::Registers& registers, std::vector<Run>& runs) const;
  // The same for keys of up to 32 bits: where the program has them, or in `room`.
  struct Packed {
    const std::uint32_t* keys = nullptr;
    bool all_equal = false;
  };
  Packed pack_narrow(const Program& program, Program::Registers& registers, std::vector<std::uint32_t>& room) const;
  // The codes of one key of up to 32 bits for all selected rows.
  const std::uint32_t* codes(const Program& program, Program::Registers& registers,
                             std::vector<std::uint32_t>& room) const;

 private:
  // By code, what it adds to a key.
  using Table = std::variant<base::PackedTable, std::vector<PackedKey>>;
  // What one row of codes adds.
  struct ByCode {
    Program::CodesIndex codes = 0;
    bool is_table = false;
    std::size_t column = 0;  // of the layout, whose code it is where there is no table
    Table table;
    unsigned shift = 0;                           // of what stands in the table
    std::optional<base::PieceTable> pieces = {};  // the same, where it is looked up faster
    PackedKey of(const KeyLayout& layout, std::uint64_t code) const {
      if (!is_table) return layout.with(0, column, code);
      return std::visit([&](const auto& t) { return PackedKey{t[code]} << shift; }, table);
    }
  };
  struct ByStep {
    Program::StepIndex step = 0;
    std::size_t column = 0;
  };

  static void fill(const Program& program, Table& table, const Program::ByCode& step, unsigned place);

  KeyLayout layout_;
  std::vector<ByCode> by_code_;
  std::vector<ByStep> by_step_;
};

}  // namespace juniper::engine
