// Memory that is taken in small pieces and given back all at once.
#pragma once

#include <algorithm>
#include <cstddef>
#include <vector>

#include "base/large_vector.h"

namespace juniper::base {

class Arena {
 public:
  Arena() = default;
  ~Arena() { clear(); }
  Arena(Arena&& other) noexcept { *this = std::move(other); }
  Arena& operator=(Arena&& other) noexcept {
    std::swap(chunks_, other.chunks_);
    std::swap(used_, other.used_);
    return *this;
  }

  // `bytes` bytes, aligned to 8, that stay where they are until the arena is cleared. They hold anything.
  char* take(std::size_t bytes) {
    bytes = (bytes + 7) / 8 * 8;
    if (chunks_.empty() || chunks_.back().bytes - used_ < bytes) add_chunk(bytes);
    char* const memory = chunks_.back().memory + used_;
    used_ += bytes;
    return memory;
  }
  // Ends what was taken last at `end`, which lies in it.
  void give_back(const char* end) { used_ = (static_cast<std::size_t>(end - chunks_.back().memory) + 7) / 8 * 8; }
  void clear() {
    for (const Chunk& chunk : chunks_) LargeAllocator<char>().deallocate(chunk.memory, chunk.bytes);
    chunks_.clear();
    used_ = 0;
  }

 private:
  struct Chunk {
    char* memory;
    std::size_t bytes;
  };

  // Chunks grow with what was taken, so that little is taken for little, and large ones come in large pages.
  void add_chunk(std::size_t least) {
    constexpr std::size_t first = std::size_t{1} << 10;
    constexpr std::size_t most = std::size_t{8} << 20;
    const std::size_t wanted = std::max(least, chunks_.empty() ? first : std::min(most, 2 * chunks_.back().bytes));
    chunks_.reserve(chunks_.size() + 1);
    chunks_.push_back({LargeAllocator<char>().allocate(wanted), wanted});
    used_ = 0;
  }

  std::vector<Chunk> chunks_;
  std::size_t used_ = 0;  // of the last chunk
};

}  // namespace juniper::base
