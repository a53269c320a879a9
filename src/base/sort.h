// Sorting of many plain numbers.
#pragma once

#include <bit>
#include <cstdint>
#include <numeric>
#include <span>
#include <vector>

#include "base/exact.h"
#include "base/prefetch.h"
#include "base/zeroed_table.h"

namespace juniper::base {

// Ascending, in place, by a quicksort without branches that nothing could foresee (pattern-defeating quicksort; O.
// Peters, arXiv:2106.05123), of Boost.Sort.
void sort_numbers(std::span<std::uint64_t> numbers);
void sort_numbers(std::span<uint128> numbers);

// The numbers 0 to `count` - 1, below 2^32, in the order of their keys of up to `key_bits` bits, 96 at most; those with
// equal keys in their own. `key_of(number)` gives a key.
// Where there are not many more keys than numbers, these are counted by key (counting sort); else they are sorted.
template <class KeyOf>
std::vector<std::uint32_t> numbers_by_key(std::size_t count, unsigned key_bits, const KeyOf& key_of) {
  std::vector<std::uint32_t> order(count);
  if (key_bits < 32 && std::size_t{1} << key_bits <= 4 * count) {
    std::vector<std::uint32_t> keys(count);
    for (std::uint32_t i = 0; i < count; ++i) keys[i] = static_cast<std::uint32_t>(key_of(i));
    const std::size_t places_in_all = std::size_t{1} << key_bits;
    const ZeroedTable<std::uint32_t> places(places_in_all + 1);
    const auto place_of = [&](std::size_t i) { return places.data() + keys[i]; };
    for_each_ahead(count, place_of, [&](std::size_t i) { ++place_of(i)[1]; });
    std::partial_sum(places.data(), places.data() + places_in_all, places.data());
    for_each_ahead(count, place_of, [&](std::size_t i) { order[(*place_of(i))++] = static_cast<std::uint32_t>(i); });
    return order;
  }
  const auto bits = static_cast<unsigned>(std::bit_width(count));
  const auto sort_as = [&](auto zero) {
    using Number = decltype(zero);
    std::vector<Number> keyed(count);
    for (std::uint32_t i = 0; i < count; ++i)
      keyed[i] = static_cast<Number>(static_cast<Number>(key_of(i)) << bits | i);
    sort_numbers(keyed);
    const Number mask = (Number{1} << bits) - 1;
    for (std::size_t i = 0; i < count; ++i) order[i] = static_cast<std::uint32_t>(keyed[i] & mask);
  };
  if (key_bits + bits <= 64) {
    sort_as(std::uint64_t{0});
  } else {
    sort_as(uint128{0});
  }
  return order;
}

}  // namespace juniper::base
