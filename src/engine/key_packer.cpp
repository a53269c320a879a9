#include "engine/key_packer.h"

#include <algorithm>
#include <array>

namespace juniper::engine {

KeyPacker::KeyPacker(const Program& program, const KeyLayout& layout, const std::vector<Program::StepIndex>& keys)
    : layout_(layout) {
  for (std::size_t k = 0; k < keys.size(); ++k) {
    const auto step = program.by_code(keys[k]);
    if (!step) {
      by_step_.push_back({keys[k], k});
      continue;
    }
    if (!step->domain && !step->table) {
      by_code_.push_back({step->codes, false, k, {}, {}});
      continue;
    }
    const std::size_t size = step->domain ? step->domain->size() : step->table->size();
    auto part = std::find_if(by_code_.begin(), by_code_.end(),
                             [&](const ByCode& p) { return p.is_table && p.codes == step->codes; });
    if (part == by_code_.end()) part = by_code_.insert(by_code_.end(), {step->codes, true, k, {}, {}});
    const auto add = [&](auto& table) {
      table.resize(size, 0);
      for (std::size_t code = 0; code < size; ++code) {
        const std::uint64_t of_key =
            step->domain ? static_cast<std::uint64_t>(step->domain->narrow[code]) : (*step->table)[code];
        table[code] = static_cast<std::decay_t<decltype(table[code])>>(layout.with(table[code], k, of_key));
      }
    };
    if (layout.bits() <= 32) {
      add(part->table);
    } else {
      add(part->wide_table);
    }
  }
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
    const std::uint32_t* const codes = program.codes(part.codes, registers).data();
    if (!part.is_table) {
      add([&](std::size_t i) { return static_cast<Key>(layout_.with(0, part.column, codes[i])); });
    } else if (part.wide_table.empty()) {
      const std::uint32_t* const table = part.table.data();
      add([&](std::size_t i) { return Key{table[codes[i]]}; });
    } else {
      add([&](std::size_t i) { return static_cast<Key>(part.wide_table[codes[i]]); });
    }
  }
  for (const ByStep& part : by_step_) {
    const std::int64_t* const codes = program.value(part.step, registers).narrow.data();
    add([&](std::size_t i) {
      return static_cast<Key>(layout_.with(0, part.column, static_cast<std::uint64_t>(codes[i])));
    });
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

const std::uint32_t* KeyPacker::codes(const Program& program, Program::Registers& registers,
                                      std::vector<std::uint32_t>& room) const {
  if (by_step_.empty() && !by_code_[0].is_table) return program.codes(by_code_[0].codes, registers).data();
  room.resize(std::max<std::size_t>(registers.count(), 1));
  if (pack(program, registers, room.data())) std::fill(room.begin(), room.end(), room[0]);
  return room.data();
}

template bool KeyPacker::pack(const Program&, Program::Registers&, std::uint32_t*) const;
template bool KeyPacker::pack(const Program&, Program::Registers&, std::uint64_t*) const;
template bool KeyPacker::pack(const Program&, Program::Registers&, PackedKey*) const;

}  // namespace juniper::engine
