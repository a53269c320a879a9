// Memory for large tables, straight from the system: in pages of two megabytes where it has them, so that an access
// does not wait for the place of its page as well. It begins with zeros, takes room when it is first touched, and goes
// back to the system as soon as it is free. All functions may be called by several threads.
#pragma once

#include <cstddef>
#include <cstdint>

namespace juniper::base {

// From this size on, tables are worth it.
constexpr std::size_t least_mapped_bytes = std::size_t{1} << 22;

// Throws std::bad_alloc.
void* map_memory(std::size_t bytes);
// `bytes` are as many as were asked for.
void unmap_memory(void* memory, std::size_t bytes) noexcept;
// Memory of another size with the same contents, which is not copied; more of it begins with zeros. Throws
// std::bad_alloc, and then leaves all as it was.
void* remap_memory(void* memory, std::size_t bytes, std::size_t new_bytes);

// All bytes that are mapped now, touched or not, in whole pages.
std::uint64_t mapped_bytes();

}  // namespace juniper::base
