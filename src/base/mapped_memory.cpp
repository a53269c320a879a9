#include "base/mapped_memory.h"

#include <sys/mman.h>

#include <atomic>
#include <new>

namespace juniper::base {

namespace {

std::atomic<std::uint64_t> mapped = 0;

// Whole large pages: the system puts no other memory at the place of a large page.
std::size_t in_pages(std::size_t bytes) {
  constexpr std::size_t large_page = std::size_t{1} << 21;
  return (bytes + large_page - 1) / large_page * large_page;
}

}  // namespace

void* map_memory(std::size_t bytes) {
  bytes = in_pages(bytes);
  void* const memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  ::madvise(memory, bytes, MADV_HUGEPAGE);  // no more than a wish
  mapped += bytes;
  return memory;
}

void unmap_memory(void* memory, std::size_t bytes) noexcept {
  ::munmap(memory, in_pages(bytes));
  mapped -= in_pages(bytes);
}

void* remap_memory(void* memory, std::size_t bytes, std::size_t new_bytes) {
  bytes = in_pages(bytes);
  new_bytes = in_pages(new_bytes);
  void* const moved = ::mremap(memory, bytes, new_bytes, MREMAP_MAYMOVE);
  if (moved == MAP_FAILED) throw std::bad_alloc();
  mapped += new_bytes - bytes;
  return moved;
}

std::uint64_t mapped_bytes() {
  return mapped;
}

}  // namespace juniper::base
