#include "engine/scan/key_packer.h"

#include <algorithm>
#include <array>
#include <map>

#include "base/parallel.h"

namespace juniper::engine {

namespace {

// The places in a key that tables of one link, or of one column, fill.
struct Places {
  unsigned begin = 128;
  unsigned end = 0;
};

}  // namespace

KeyPacker::KeyPacker(const Program& program, const KeyLayout& layout, const std::vector<Program::StepIndex>& keys)
    : layout_(layout) {
  std::map<Program::CodesIndex, Places> places;
  for (std::size_t k = 0; k < keys.size(); ++k) {
    const auto step = program.by_code(keys[k]);
    if (!step || !step->has_table() || layout.width(k) == 0) continue;
    Places& of = places[step->codes];
    of.begin = std::min(of.begin, layout.shift(k));
    of.end = std::max(of.end, layout.shift(k) + layout.width(k));
  }
  for (std::size_t k = 0; k < keys.size(); ++k) {
    const auto step = program.by_code(keys[k]);
    if (!step) {
      by_step_.push_back({keys[k], k});
      continue;
    }
    if (!step->has_table()) {
      by_code_.push_back({step->codes, false, k, {}, 0});
      continue;
    }
    if (layout.width(k) == 0) continue;  // there is one code
    auto part = std::find_if(by_code_.begin(), by_code_.end(),
                             [&](const ByCode& p) { return p.is_table && p.codes == step->codes; });
    if (part == by_code_.end()) {
      const auto [begin, end] = places[step->codes];
      const std::size_t size = step->table_size();
      part = by_code_.insert(by_code_.end(), {step->codes, true, k, {}, begin});
      if (end - begin <= 32 && size <= base::PackedTable::most_entries) {
        part->table.emplace<base::PackedTable>(size, end - begin);
      } else {
        part->table.emplace<std::vector<PackedKey>>(size);
      }
    }
    fill(program, part->table, *step, layout.shift(k) - part->shift);
  }
  for (ByCode& part : by_code_) {
    if (const auto* const table = std::get_if<base::PackedTable>(&part.table); part.is_table && table != nullptr)
      part.pieces = base::PieceTable::of(*table);
  }
}

// Puts the codes of one key where they belong in the entries of a table.
void KeyPacker::fill(const Program& program, Table& table, const Program::ByCode& step, unsigned place) {
  const auto add = [&](std::size_t first, const auto& codes) {
    if (auto* const packed = std::get_if<base::PackedTable>(&table)) {
      packed->add(first, codes, place);
      return;
    }
    PackedKey* const keys = std::get<std::vector<PackedKey>>(table).data() + first;
    for (std::size_t i = 0; i < codes.size(); ++i) keys[i] |= static_cast<PackedKey>(codes[i]) << place;
  };
  if (step.domain) return add(0, step.domain->codes());
  const std::size_t blocks = (step.far->size() + store::block_rows - 1) / store::block_rows;
  base::parallel_short(blocks, program.threads(), [&](std::size_t block) {
    std::array<std::uint32_t, store::block_rows> codes;
    const std::size_t count = step.far->read_block(block, codes.data());
    add(block * store::block_rows, std::span<const std::uint32_t>(codes).first(count));
  });
}

void KeyPacker::add_read(const Program& program, Program::CodesSet& read) const {
  for (const ByCode& part : by_code_) {
    read.resize(std::max<std::size_t>(read.size(), part.codes + 1));
    read[part.codes] = true;
  }
  for (const ByStep& part : by_step_) program.add_read(part.step, read);
}

template <class Key>
bool KeyPacker::pack(const Program& program, Program::Registers& registers, Key* keys) const {
  const std::size_t count = registers.count();
  PackedKey constant = 0;
  bool written = false;
  const auto add = [&](const auto& key_of) {
    if (written) {
      for (std::size_t i = 0; i < count; ++i) keys[i] = static_cast<Key>(keys[i] | key_of(i));
    } else {
      for (std::size_t i = 0; i < count; ++i) keys[i] = key_of(i);
    }
    written = true;
  };
  for (const ByCode& part : by_code_) {
    if (const auto code = program.constant_code(part.codes, registers)) {
      constant |= part.of(layout_, *code);
      continue;
    }
    const std::span<const std::uint32_t> codes = program.codes(part.codes, registers);
    if (!part.is_table) {
      if (layout_.width(part.column) == 0) continue;  // there is one code
      const unsigned shift = layout_.shift(part.column);
      add([&](std::size_t i) { return static_cast<Key>(static_cast<Key>(codes[i]) << shift); });
    } else if (const auto* const wide = std::get_if<std::vector<PackedKey>>(&part.table)) {
      add([&](std::size_t i) { return static_cast<Key>((*wide)[codes[i]] << part.shift); });
    } else {
      const auto& table = std::get<base::PackedTable>(part.table);
      if constexpr (sizeof(Key) != sizeof(std::uint32_t)) {
        std::array<std::uint32_t, store::block_rows> entries;
        if (part.pieces) {
          part.pieces->look_up(codes, 0, entries.data());
        } else {
          table.look_up(codes, 0, entries.data());
        }
        add([&](std::size_t i) { return static_cast<Key>(static_cast<Key>(entries[i]) << part.shift); });
      } else if (written && part.pieces) {
        part.pieces->add_looked_up(codes, part.shift, keys);
      } else if (written) {
        table.add_looked_up(codes, part.shift, keys);
      } else if (part.pieces) {
        part.pieces->look_up(codes, part.shift, keys);
        written = true;
      } else {
        table.look_up(codes, part.shift, keys);
        written = true;
      }
    }
  }
  for (const ByStep& part : by_step_) {
    const std::span<const std::uint64_t> codes = program.value(part.step, registers).codes();
    add([&](std::size_t i) { return static_cast<Key>(layout_.with(0, part.column, codes[i])); });
  }
  if (!written) {
    keys[0] = static_cast<Key>(constant);
    return true;
  }
  if (constant != 0) {
    for (std::size_t i = 0; i < count; ++i) keys[i] = static_cast<Key>(keys[i] | static_cast<Key>(constant));
  }
  return false;
}

bool KeyPacker::find_runs(const Program& program, Program::Registers& registers, std::vector<Run>& runs) const {
  runs.clear();
  if (!by_step_.empty()) return false;
  PackedKey constant = 0;
  const ByCode* changing = nullptr;
  for (const ByCode& part : by_code_) {
    if (const auto code = program.constant_code(part.codes, registers)) {
      constant |= part.of(layout_, *code);
    } else if (changing != nullptr) {
      return false;
    } else {
      changing = &part;
    }
  }
  if (changing == nullptr) {
    runs.push_back({constant, registers.count()});
    return true;
  }
  std::array<store::Codes::Run, store::Codes::most_runs> found;
  const std::size_t count = program.runs(changing->codes, registers, found.data());
  for (std::size_t i = 0; i < count; ++i)
    runs.push_back({constant | changing->of(layout_, found[i].code), found[i].end});
  return count != 0;
}

KeyPacker::Packed KeyPacker::pack_narrow(const Program& program, Program::Registers& registers,
                                         std::vector<std::uint32_t>& room) const {
  if (by_step_.empty() && by_code_.size() == 1 && layout_.columns() == 1 && !by_code_[0].is_table &&
      !program.constant_code(by_code_[0].codes, registers))
    return {program.codes(by_code_[0].codes, registers).data(), false};
  room.resize(std::max<std::size_t>(registers.count(), 1));
  const bool all_equal = pack(program, registers, room.data());
  return {room.data(), all_equal};
}

const std::uint32_t* KeyPacker::codes(const Program& program, Program::Registers& registers,
                                      std::vector<std::uint32_t>& room) const {
  const Packed packed = pack_narrow(program, registers, room);
  if (packed.all_equal) std::fill(room.begin(), room.end(), room[0]);
  return packed.keys;
}

template bool KeyPacker::pack(const Program&, Program::Registers&, std::uint32_t*) const;
template bool KeyPacker::pack(const Program&, Program::Registers&, std::uint64_t*) const;
template bool KeyPacker::pack(const Program&, Program::Registers&, PackedKey*) const;

}  // namespace juniper::engine
