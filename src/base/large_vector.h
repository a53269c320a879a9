// Vectors of many megabytes that are read in no order.
#pragma once

#include <cstddef>
#include <new>
#include <vector>

#include "base/mapped_memory.h"

namespace juniper::base {

template <class T>
class LargeAllocator {
 public:
  using value_type = T;
  LargeAllocator() = default;
  template <class Other>
  explicit LargeAllocator(const LargeAllocator<Other>&) {}

  T* allocate(std::size_t count) {
    if (!is_large(count)) return static_cast<T*>(::operator new(count * sizeof(T)));
    return static_cast<T*>(map_memory(count * sizeof(T)));
  }
  void deallocate(T* memory, std::size_t count) {
    if (is_large(count)) {
      unmap_memory(memory, count * sizeof(T));
    } else {
      ::operator delete(memory);
    }
  }
  bool operator==(const LargeAllocator&) const { return true; }

 private:
  static bool is_large(std::size_t count) { return count >= least_mapped_bytes / sizeof(T); }
};

template <class T>
using LargeVector = std::vector<T, LargeAllocator<T>>;

}  // namespace juniper::base
