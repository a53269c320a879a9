#include "base/sort.h"

#include <boost/sort/pdqsort/pdqsort.hpp>

namespace juniper::base {

void sort_numbers(std::span<std::uint64_t> numbers) {
  boost::sort::pdqsort_branchless(numbers.begin(), numbers.end());
}

void sort_numbers(std::span<uint128> numbers) {
  boost::sort::pdqsort_branchless(numbers.begin(), numbers.end());
}

}  // namespace juniper::base
