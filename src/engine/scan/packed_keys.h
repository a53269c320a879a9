// The codes of several columns packed into one number: the key of a group.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <type_traits>
#include <utility>
#include <variant>
#include <vector>

#include "base/growing_vector.h"
#include "base/parallel.h"

namespace juniper::engine {

__extension__ using PackedKey = unsigned __int128;

struct HashPackedKey {
  std::size_t operator()(PackedKey key) const;
};

// How the codes of several columns share a PackedKey.
class KeyLayout {
 public:
  // Of no columns, whose only key is 0.
  KeyLayout() = default;
  // `last_codes` are the largest codes of the columns. `fits` is false if they need more than 128 bits.
  explicit KeyLayout(const std::vector<std::uint64_t>& last_codes);
  bool fits() const { return bits_ <= 128; }
  unsigned bits() const { return bits_; }
  // The largest key, in which every code is the largest. Only where they fit.
  PackedKey last() const { return last_; }
  std::size_t columns() const { return widths_.size(); }
  unsigned width(std::size_t column) const { return widths_[column]; }
  unsigned shift(std::size_t column) const { return shifts_[column]; }
  PackedKey with(PackedKey key, std::size_t column, std::uint64_t code) const {
    if (widths_[column] == 0) return key;  // its place may be past the end
    return key | static_cast<PackedKey>(code) << shifts_[column];
  }
  std::uint64_t code(PackedKey key, std::size_t column) const {
    if (widths_[column] == 0) return 0;
    const auto code = static_cast<std::uint64_t>(key >> shifts_[column]);
    return widths_[column] == 64 ? code : code & ((std::uint64_t{1} << widths_[column]) - 1);
  }

 private:
  std::vector<unsigned> widths_;
  std::vector<unsigned> shifts_;
  unsigned bits_ = 0;
  PackedKey last_ = 0;
};

// A list of packed keys, each in 4, 8 or 16 bytes: of millions of groups, most of the memory would be zeros.
class PackedKeys {
 public:
  PackedKeys() : PackedKeys(0) {}
  // For keys of up to so many bits (at most 128).
  explicit PackedKeys(unsigned bits) {
    if (bits > 64) {
      keys_.emplace<base::GrowingVector<PackedKey>>();
    } else if (bits > 32) {
      keys_.emplace<base::GrowingVector<std::uint64_t>>();
    }
  }

  std::size_t size() const {
    if (const auto* const narrow = std::get_if<base::GrowingVector<std::uint32_t>>(&keys_)) return narrow->size();
    return std::visit([](const auto& keys) { return keys.size(); }, keys_);
  }
  bool empty() const { return size() == 0; }
  PackedKey operator[](std::size_t i) const {
    return std::visit([i](const auto& keys) { return PackedKey{keys[i]}; }, keys_);
  }
  void push_back(PackedKey key) {
    // Most keys, and those of which there are most, are narrow.
    if (auto* const narrow = std::get_if<base::GrowingVector<std::uint32_t>>(&keys_)) {
      narrow->push_back(static_cast<std::uint32_t>(key));
    } else {
      push_back_wide(key);
    }
  }
  void reserve(std::size_t count) {
    std::visit([count](auto& keys) { keys.reserve(count); }, keys_);
  }
  // Calls use(keys) with the vector of the keys as they stand; returns what it returns.
  template <class Use>
  auto visit(const Use& use) const {
    return std::visit(use, keys_);
  }
  // Others of up to so many bits in their place: change(i, key) of each, on up to `threads` threads.
  template <class Change>
  PackedKeys changed(unsigned bits, unsigned threads, const Change& change) const {
    PackedKeys others(bits);
    std::visit(
        [&](auto& to) {
          to.resize(size());
          visit([&](const auto& from) {
            base::parallel_ranges(size(), threads, [&](std::size_t begin, std::size_t end) {
              for (std::size_t i = begin; i < end; ++i)
                to[i] = static_cast<typename std::decay_t<decltype(to)>::value_type>(change(i, PackedKey{from[i]}));
            });
          });
        },
        others.keys_);
    return others;
  }
  // Those from `begin` to before `end`.
  PackedKeys part(std::size_t begin, std::size_t end) const {
    PackedKeys part;
    visit([&](const auto& keys) {
      std::decay_t<decltype(keys)> some;
      some.resize(end - begin);
      std::copy(keys.begin() + begin, keys.begin() + end, some.begin());
      part.keys_ = std::move(some);
    });
    return part;
  }

 private:
  void push_back_wide(PackedKey key);

  std::variant<base::GrowingVector<std::uint32_t>, base::GrowingVector<std::uint64_t>, base::GrowingVector<PackedKey>>
      keys_;
};

}  // namespace juniper::engine
