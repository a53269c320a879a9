// A table that begins with zeros everywhere. Of a large one, only what is touched takes memory.
#pragma once

#include <cstddef>
#include <cstdlib>
#include <memory>
#include <new>
#include <type_traits>

#include "base/mapped_memory.h"

namespace juniper::base {

template <class T>
class ZeroedTable {
  static_assert(std::is_trivial_v<T>);

 public:
  ZeroedTable() = default;
  explicit ZeroedTable(std::size_t size) : table_(allocate(size * sizeof(T)), Free{size * sizeof(T)}) {}

  bool empty() const { return table_ == nullptr; }
  T* data() const { return table_.get(); }
  T& operator[](std::size_t i) const { return table_.get()[i]; }

 private:
  struct Free {
    std::size_t bytes = 0;
    void operator()(T* table) const {
      if (bytes >= least_mapped_bytes) {
        unmap_memory(table, bytes);
      } else {
        std::free(table);
      }
    }
  };
  static T* allocate(std::size_t bytes) {
    if (bytes >= least_mapped_bytes) return static_cast<T*>(map_memory(bytes));
    void* const memory = std::calloc(bytes, 1);
    if (memory == nullptr) throw std::bad_alloc();
    return static_cast<T*>(memory);
  }

  std::unique_ptr<T, Free> table_;
};

}  // namespace juniper::base
