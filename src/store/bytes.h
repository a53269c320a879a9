// Read-only bytes with whatever keeps them alive: a buffer of their own, or a mapped file.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <memory>
#include <span>
#include <vector>

namespace juniper::store {

class Bytes {
 public:
  Bytes() = default;
  template <class T>
  explicit Bytes(std::vector<T> owned) {
    auto buffer = std::make_shared<const std::vector<T>>(std::move(owned));
    view_ = std::as_bytes(std::span(*buffer));
    keep_ = std::move(buffer);
  }
  Bytes(std::shared_ptr<const void> keep, std::span<const std::byte> view) : keep_(std::move(keep)), view_(view) {}

  std::size_t size() const { return view_.size(); }
  std::span<const std::byte> view() const { return view_; }

  // The `count` values of T that begin at byte `offset`, which must be aligned for T.
  template <class T>
  std::span<const T> as(std::size_t offset, std::size_t count) const {
    return {reinterpret_cast<const T*>(view_.data() + offset), count};
  }

 private:
  std::shared_ptr<const void> keep_;
  std::span<const std::byte> view_;
};

// Appends the memory of `values` to `out`.
template <class T>
void append(std::vector<std::byte>& out, std::span<const T> values) {
  const auto bytes = std::as_bytes(values);
  out.insert(out.end(), bytes.begin(), bytes.end());
}

}  // namespace juniper::store
