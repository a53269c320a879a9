// Vectors of many megabytes that are read in no order: in pages of two megabytes where the system has them, so that an
// access does not wait for the place of its page as well. Their memory goes back to the system as soon as it is free.
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
    if (!is_large(count)) return static_cast<T*>(::operator new(count * sizeof(T)));
    void* const memory = ::mmap(nullptr, count * sizeof(T), PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    ::madvise(memory, count * sizeof(T), MADV_HUGEPAGE);  // no more than a wish
    return static_cast<T*>(memory);
  }
  void deallocate(T* memory, std::size_t count) {
    if (is_large(count)) {
      ::munmap(memory, count * sizeof(T));
    } else {
      ::operator delete(memory);
    }
  }
  bool operator==(const LargeAllocator&) const { return true; }

 private:
  static bool is_large(std::size_t count) { return count >= (std::size_t{1} << 22) / sizeof(T); }
};

template <class T>
using LargeVector = std::vector<T, LargeAllocator<T>>;

}  // namespace juniper::base
