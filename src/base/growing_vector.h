// A vector that grows to millions of numbers without copying them: a large one is moved by the system page by page, and
// leaves no memory behind that the next growth could not use.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdlib>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>

#include "base/mapped_memory.h"

namespace juniper::base {

template <class T>
class GrowingVector {
  static_assert(std::is_trivially_copyable_v<T> && std::is_trivially_destructible_v<T>);

 public:
  using value_type = T;

  GrowingVector() = default;
  GrowingVector(GrowingVector&& other) noexcept { swap(other); }
  GrowingVector& operator=(GrowingVector&& other) noexcept {
    swap(other);
    return *this;
  }
  GrowingVector(const GrowingVector&) = delete;
  GrowingVector& operator=(const GrowingVector&) = delete;
  ~GrowingVector() {
    if (is_mapped(capacity_)) {
      unmap_memory(data_, capacity_ * sizeof(T));
    } else {
      std::free(data_);
    }
  }

  std::size_t size() const { return size_; }
  T* data() { return data_; }
  const T* data() const { return data_; }
  T* begin() { return data_; }
  T* end() { return data_ + size_; }
  const T* begin() const { return data_; }
  const T* end() const { return data_ + size_; }
  T& operator[](std::size_t i) { return data_[i]; }
  const T& operator[](std::size_t i) const { return data_[i]; }

  // Those past the old end are `value`.
  void resize(std::size_t size, const T& value = T{}) {
    if (size > capacity_) grow(size);
    if (size > size_) std::uninitialized_fill(data_ + size_, data_ + size, value);
    size_ = size;
  }
  void push_back(const T& value) { resize(size_ + 1, value); }
  void reserve(std::size_t capacity) {
    if (capacity <= capacity_) return;
    void* moved = nullptr;
    if (is_mapped(capacity_)) {
      moved = remap_memory(data_, capacity_ * sizeof(T), capacity * sizeof(T));
    } else if (is_mapped(capacity)) {
      moved = map_memory(capacity * sizeof(T));
      std::copy(begin(), end(), static_cast<T*>(moved));
      std::free(data_);
    } else {
      moved = std::realloc(static_cast<void*>(data_), capacity * sizeof(T));
      if (moved == nullptr) throw std::bad_alloc();
    }
    data_ = static_cast<T*>(moved);
    capacity_ = capacity;
  }

 private:
  // A vector that has outgrown a quarter of the least that is mapped goes on to become large.
  void grow(std::size_t size) {
    std::size_t capacity = std::max(size, 2 * capacity_);
    if (capacity > least_mapped_bytes / 4 / sizeof(T)) capacity = std::max(capacity, least_mapped_bytes / sizeof(T));
    reserve(capacity);
  }
  static bool is_mapped(std::size_t capacity) { return capacity * sizeof(T) >= least_mapped_bytes; }
  void swap(GrowingVector& other) {
    std::swap(data_, other.data_);
    std::swap(size_, other.size_);
    std::swap(capacity_, other.capacity_);
  }

  T* data_ = nullptr;
  std::size_t size_ = 0;
  std::size_t capacity_ = 0;
};

}  // namespace juniper::base
