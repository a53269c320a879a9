// Sorting of many plain numbers with the processor's widest instructions.
#pragma once

#include <cstdint>
#include <span>

#include "base/exact.h"

namespace juniper::base {

// Ascending. Take no memory beyond a small buffer.
void sort_numbers(std::span<std::uint64_t> numbers);
void sort_numbers(std::span<uint128> numbers);

}  // namespace juniper::base
