// Numbers combinations of codes in the order in which they are first seen, code by code.
#pragma once

#include <boost/unordered/unordered_flat_map.hpp>
#include <cstdint>
#include <vector>

#include "engine/scan/packed_keys.h"

namespace juniper::engine {

class Numbering {
 public:
  explicit Numbering(std::size_t keys) : numbers_(keys) {}
  static constexpr std::uint32_t none = 0xFFFFFFFF;
  // `code_of(k)` is the code of the k-th key.
  template <class CodeOf>
  std::uint32_t add(const CodeOf& code_of) {
    std::uint32_t number = 0;
    for (std::size_t k = 0; k < numbers_.size(); ++k)
      number = numbers_[k]
                   .try_emplace(key(number, code_of(k)), static_cast<std::uint32_t>(numbers_[k].size()))
                   .first->second;
    return number;
  }
  template <class CodeOf>
  std::uint32_t find(const CodeOf& code_of) const {
    std::uint32_t number = 0;
    for (std::size_t k = 0; k < numbers_.size(); ++k) {
      const auto at = numbers_[k].find(key(number, code_of(k)));
      if (at == numbers_[k].end()) return none;
      number = at->second;
    }
    return number;
  }
  std::size_t size() const { return numbers_.empty() ? 1 : numbers_.back().size(); }

 private:
  static PackedKey key(std::uint32_t before, std::uint64_t code) { return PackedKey{before} << 64 | code; }
  std::vector<boost::unordered_flat_map<PackedKey, std::uint32_t, HashPackedKey>> numbers_;
};

}  // namespace juniper::engine
