// The different values of what rows are grouped by, where that is an expression: the codes that tell them apart.
#pragma once

#include <boost/unordered/unordered_flat_map.hpp>
#include <cstdint>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "engine/vector/vector.h"

namespace juniper::engine {

// Codes 0 to n-1 stand for the n values in ascending order, n for null, n+1 for a value that does not fit its type. All
// values are added before any code is asked for; then several threads may ask. An exact value that does not fit 64 bits
// does not fit its type, as no column holds it.
class KeyValues {
 public:
  // Of the values of an expression of this type.
  explicit KeyValues(Type type);

  void add(const Vector& values);
  void add(const KeyValues& other);
  void add(const Value& value);
  // What an expression comes to for each code of a column, where somebody has worked it out and others will need it.
  void keep_by_code(const std::string& expression, std::shared_ptr<const Vector> values) {
    by_code_[expression] = std::move(values);
  }
  std::shared_ptr<const Vector> by_code(const std::string& expression) const {
    const auto at = by_code_.find(expression);
    return at == by_code_.end() ? nullptr : at->second;
  }
  // Once, behind the last of them.
  void sort();

  std::uint64_t null_code() const;
  std::uint64_t overflow_code() const { return null_code() + 1; }
  // Writes the code of each value; each of them was added.
  void find(const Vector& values, std::int64_t* codes) const;
  // The code of a value that was added, or of null.
  std::uint64_t code_of(const Value& value) const;
  Value value_of(std::uint64_t code) const;
  // The values of codes, null for those that stand for none.
  Vector decode(std::span<const std::uint64_t> codes) const;

 private:
  template <class T>
  struct Values {
    boost::unordered_flat_map<T, std::uint64_t> codes;
    std::vector<T> sorted;
  };
  using Texts = Values<std::string_view>;

  std::variant<Values<std::int64_t>, Values<double>, Texts> values_;
  bool is_dense_ = false;  // exact numbers without a gap
  OwnedTexts owned_;
  std::map<std::string, std::shared_ptr<const Vector>> by_code_;
};

}  // namespace juniper::engine
