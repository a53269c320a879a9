// Loops over places of a large table in no order, which wait for the memory: the processor doesn't look far enough
// ahead by itself where every step writes, and less than it could where every step only reads.
#pragma once

#include <algorithm>
#include <cstddef>

namespace juniper::base {

// Tables of more bytes than this do not stay in the cache that is next to a processor's first one.
constexpr std::size_t large_table_bytes = std::size_t{1} << 18;

// Calls step(i) for each i below `count`, with the memory at place(i + some) on its way.
template <class Place, class Step>
void for_each_ahead(std::size_t count, const Place& place, const Step& step) {
  constexpr std::size_t ahead = 32;
  std::size_t i = 0;
  for (; i + ahead < count; ++i) {
    __builtin_prefetch(place(i + ahead), 1);
    step(i);
  }
  for (; i < count; ++i) step(i);
}

}  // namespace juniper::base
