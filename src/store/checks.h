// What has been verified of a part of a store file. Checksums stand per block and are looked at when a block is read
// for the first time, so that opening costs the same whatever the size, and a query pays for what it touches.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <span>
#include <string>

namespace juniper::store {

// XXH3, 64 bits.
std::uint64_t hash_bytes(std::span<const std::byte> bytes);

// Its lower half: what stands beside a block.
inline std::uint32_t short_hash(std::span<const std::byte> bytes) {
  return static_cast<std::uint32_t>(hash_bytes(bytes));
}

// How far a part has been looked at.
enum class Checked : std::uint8_t {
  nothing,
  bytes,  // its checksum is right, and it holds together
  all     // and no number in it leads outside
};

class Checks {
 public:
  // `what` names the part in messages: "column sessions.bay_id of charging.jrs".
  Checks(std::string what, std::uint64_t directory_hash, std::size_t blocks)
      : what_(std::move(what)),
        directory_hash_(directory_hash),
        blocks_(blocks),
        passed_(std::make_unique<std::atomic<Checked>[]>(blocks + 1)) {}

  std::uint64_t directory_hash() const { return directory_hash_; }
  // Of a block. Any thread may ask and tell; where two tell different things, the last one stands, and what was done
  // already is done once more.
  bool passed(std::size_t block, Checked what) const { return passed_[block].load(std::memory_order_acquire) >= what; }
  void pass(std::size_t block, Checked what) const { passed_[block].store(what, std::memory_order_release); }
  // Compares the checksum of the directory's bytes, once.
  void check_directory(std::span<const std::byte> bytes) const {
    if (passed(blocks_, Checked::bytes)) return;
    if (hash_bytes(bytes) != directory_hash_) fail("the checksum of its directory differs");
    pass(blocks_, Checked::bytes);
  }
  // Throws a base::Failure: JR-605.
  [[noreturn]] void fail(const std::string& how) const;

 private:
  std::string what_;
  std::uint64_t directory_hash_;
  std::size_t blocks_;
  std::unique_ptr<std::atomic<Checked>[]> passed_;  // of the blocks, and of the directory
};

}  // namespace juniper::store
