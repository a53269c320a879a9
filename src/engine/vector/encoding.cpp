#include "engine/vector/encoding.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <functional>

namespace juniper::engine {

namespace {

// The value at a row as the type that `distinct` is kept in: exact numbers of either width compare with each other.
template <class T>
T value_as(const Vector& values, std::size_t row) {
  if constexpr (std::is_same_v<T, int128>) {
    return values.repr == Repr::narrow ? int128{values.narrow[row]} : values.wide[row];
  } else {
    return values.of<T>()[row];
  }
}

}  // namespace

Encoding::Encoding(const Vector& values) {
  auto codes = std::make_shared<std::vector<std::uint64_t>>(values.size());
  with_type(values.repr, [&](auto zero) {
    using T = decltype(zero);
    const auto& from = values.of<T>();
    boost::unordered_flat_map<T, std::uint64_t> numbers;
    for (std::size_t i = 0; i < values.size(); ++i) {
      if (values.state[i] == State::value) numbers.try_emplace(from[i], 0);
    }
    std::vector<T> sorted;
    sorted.reserve(numbers.size());
    for (const auto& [value, number] : numbers) sorted.push_back(value);
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t i = 0; i < sorted.size(); ++i) numbers[sorted[i]] = i;
    for (std::size_t i = 0; i < values.size(); ++i)
      (*codes)[i] = values.state[i] == State::value ? numbers.find(from[i])->second : sorted.size();
    distinct_.reset(values.repr, sorted.size());
    if constexpr (std::is_same_v<T, std::string_view>) {
      for (std::size_t i = 0; i < sorted.size(); ++i) distinct_.text[i] = distinct_.owned.emplace_back(sorted[i]);
    } else {
      distinct_.of<T>() = std::move(sorted);
    }
  });
  codes_ = std::move(codes);
  overflowed_ = std::find(values.state.begin(), values.state.end(), State::overflow) != values.state.end();
}

Vector Encoding::decode(const std::vector<std::uint64_t>& codes) const {
  Vector out;
  out.reset(distinct_.repr, codes.size());
  with_type(distinct_.repr, [&](auto zero) {
    using T = decltype(zero);
    for (std::size_t i = 0; i < codes.size(); ++i) {
      if (codes[i] >= distinct_.size()) {
        out.state[i] = State::null;
      } else if constexpr (std::is_same_v<T, std::string_view>) {
        out.text[i] = out.owned.emplace_back(distinct_.text[codes[i]]);
      } else {
        out.of<T>()[i] = distinct_.of<T>()[codes[i]];
      }
    }
  });
  return out;
}

template <class Before>
std::uint64_t Encoding::count(const Vector& values, std::size_t row, const Before& before) const {
  std::uint64_t found = 0;
  with_type(distinct_.repr, [&](auto zero) {
    using T = decltype(zero);
    // A wide number may lie beyond all narrow ones.
    using Wanted = std::conditional_t<std::is_same_v<T, std::int64_t>, int128, T>;
    const auto wanted = value_as<Wanted>(values, row);
    const auto& sorted = distinct_.of<T>();
    found = static_cast<std::uint64_t>(
        std::partition_point(sorted.begin(), sorted.end(), [&](const T& x) { return before(Wanted(x), wanted); }) -
        sorted.begin());
  });
  return found;
}

std::uint64_t Encoding::before(const Vector& values, std::size_t row) const {
  return count(values, row, std::less<>());
}

std::uint64_t Encoding::through(const Vector& values, std::size_t row) const {
  return count(values, row, std::less_equal<>());
}

}  // namespace juniper::engine
