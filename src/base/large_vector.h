// Vectors of many megabytes that are read in no order: in pages of two megabytes where the system has them, so that an
// access does not wait for the place of its page as well.
#pragma once

#include <sys/mman.h>

#include <cstddef>
#include <new>
#include <vector>

namespace juniper::base {

template <class T>
class LargeAllocator {
 public:
  using value_type = T;
  LargeAllocator() = default;
  template <class Other>
  explicit LargeAllocator(const LargeAllocator<Other>&) {}

  T* allocate(std::size_t count) {
    constexpr std::size_t page = std::size_t{1} << 21;
    if (count * sizeof(T) < 2 * page) return static_cast<T*>(::operator new(count * sizeof(T)));
    void* const memory = ::operator new(count * sizeof(T), std::align_val_t(page));
    ::madvise(memory, count * sizeof(T), MADV_HUGEPAGE);  // no more than a wish
    return static_cast<T*>(memory);
  }
  void deallocate(T* memory, std::size_t count) {
    constexpr std::size_t page = std::size_t{1} << 21;
    if (count * sizeof(T) < 2 * page) {
      ::operator delete(memory);
    } else {
      ::operator delete(memory, std::align_val_t(page));
    }
  }
  bool operator==(const LargeAllocator&) const { return true; }
};

template <class T>
using LargeVector = std::vector<T, LargeAllocator<T>>;

}  // namespace juniper::base
