#include "engine/key_packer.h"

#include <algorithm>
#include <array>
#include <map>

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
  const auto has_table = [](const Program::ByCode& step) { return step.domain || step.table; };
  std::map<Program::CodesIndex, Places> places;
  for (std::size_t k = 0; k < keys.size(); ++k) {
    const auto step = program.by_code(keys[k]);
    if (!step || !has_table(*step) || layout.width(k) == 0) continue;
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
    if (!has_table(*step)) {
      by_code_.push_back({step->codes, false, k, {}, 0});
      continue;
    }
    if (layout.width(k) == 0) continue;  // there is one code
    const std::size_t size = step->domain ? step->domain->size() : step->table->size();
    auto part = std::find_if(by_code_.begin(), by_code_.end(),
                             [&](const ByCode& p) { return p.is_table && p.codes == step->codes; });
    if (part == by_code_.end()) {
      const auto [begin, end] = places[step->codes];
      part = by_code_.insert(by_code_.end(), {step->codes, true, k, {}, begin});
      if (end - begin <= 8) {
        part->table.emplace<std::vector<std::uint8_t>>(size);
      } else if (end - begin <= 16) {
        part->table.emplace<std::vector<std::uint16_t>>(size);
      } else if (end - begin <= 32) {
        part->table.emplace<std::vector<std::uint32_t>>(size);
      } else {
        part->table.emplace<std::vector<PackedKey>>(size);
      }
    }
    const unsigned place = layout.shift(k) - part->shift;
    const auto add = [&](auto& table, const auto& codes) {
      using Part = typename std::decay_t<decltype(table)>::value_type;
      for (std::size_t code = 0; code < size; ++code)
        table[code] = static_cast<Part>(table[code] | static_cast<Part>(static_cast<Part>(codes[code]) << place));
    };
    std::visit(
        [&](auto& table) {
          if (step->domain) {
            add(table, step->domain->narrow);
          } else {
            add(table, *step->table);
          }
        },
        part->table);
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
    } else {
      std::visit(
          [&](const auto& values) {
            const auto* const table = values.data();
            add([&](std::size_t i) { return static_cast<Key>(static_cast<Key>(table[codes[i]]) << part.shift); });
          },
          part.table);
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
