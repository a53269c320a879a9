// Codes for the values of a vector, made on the spot: what grouping, joining and ordering by an expression work with.
#pragma once

#include <memory>
#include <vector>

#include "engine/vector/vector.h"

namespace juniper::engine {

// Codes 0 to n-1 stand for the n distinct values in ascending order, n for null, and for what overflowed.
class Encoding {
 public:
  explicit Encoding(const Vector& values);

  const SharedCodes& codes() const { return codes_; }
  std::uint64_t null_code() const { return distinct_.size(); }
  // True if a value did not fit.
  bool overflowed() const { return overflowed_; }
  // The values that the codes stand for; null for null_code().
  Vector decode(const std::vector<std::uint64_t>& codes) const;
  // How many of the distinct values come before `values[row]`, and how many come before it or equal it. The row holds a
  // value of the type that was encoded.
  std::uint64_t before(const Vector& values, std::size_t row) const;
  std::uint64_t through(const Vector& values, std::size_t row) const;

 private:
  template <class Before>
  std::uint64_t count(const Vector& values, std::size_t row, const Before& before) const;

  SharedCodes codes_;
  Vector distinct_;
  bool overflowed_ = false;
};

}  // namespace juniper::engine
