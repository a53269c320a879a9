#include "base/mapped_memory.h"

#include <sys/mman.h>

#include <atomic>
#include <new>

namespace juniper::base {

namespace {

std::atomic<std::uint64_t> mapped = 0;

}  // namespace

void* map_memory(std::size_t bytes) {
  void* const memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  ::madvise(memory, bytes, MADV_HUGEPAGE);  // no more than a wish
  mapped += bytes;
  return memory;
}

void unmap_memory(void* memory, std::size_t bytes) noexcept {
  ::munmap(memory, bytes);
  mapped -= bytes;
}

void* remap_memory(void* memory, std::size_t bytes, std::size_t new_bytes) {
  void* const moved = ::mremap(memory, bytes, new_bytes, MREMAP_MAYMOVE);
  if (moved == MAP_FAILED) throw std::bad_alloc();
  mapped += new_bytes - bytes;
  return moved;
}

std::uint64_t mapped_bytes() {
  return mapped;
}

}  // namespace juniper::base
