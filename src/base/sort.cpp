#include "base/sort.h"

#include <hwy/contrib/sort/vqsort.h>

#include <algorithm>

namespace juniper::base {

namespace {

// Below this the library's start takes longer than the sort.
constexpr std::size_t few = 1024;

}  // namespace

void sort_numbers(std::span<std::uint64_t> numbers) {
  if (numbers.size() < few) return std::sort(numbers.begin(), numbers.end());
  const hwy::Sorter sorter;
  sorter(numbers.data(), numbers.size(), hwy::SortAscending());
}

void sort_numbers(std::span<uint128> numbers) {
  if (numbers.size() < few) return std::sort(numbers.begin(), numbers.end());
  // The library's type has the same bytes: the lower half first.
  static_assert(sizeof(hwy::uint128_t) == sizeof(uint128) && alignof(hwy::uint128_t) <= alignof(uint128));
  const hwy::Sorter sorter;
  sorter(reinterpret_cast<hwy::uint128_t*>(numbers.data()), numbers.size(), hwy::SortAscending());
}

}  // namespace juniper::base
