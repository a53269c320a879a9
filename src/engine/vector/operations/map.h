// The loops of kernels: one function over the values of one or two vectors, and what becomes of states.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>

#include "engine/vector/operations/operation.h"

namespace juniper::engine {

// out[i] = f(a[i]) where a[i] is a value; f gives false for null, or the State as its result otherwise.
template <class A, class R, class F>
void map(const Vector& a, Vector& out, const F& f) {
  const auto& from = a.of<A>();
  auto& to = out.of<R>();
  if (a.all_values) {
    for (std::size_t i = 0; i < out.size(); ++i) out.state[i] = f(from[i], to[i]);
    return;
  }
  for (std::size_t i = 0; i < out.size(); ++i) {
    out.state[i] = a.state[i] == State::value ? f(from[i], to[i]) : a.state[i];
  }
}

template <class A, class B, class R, class F>
void map(const Vector& a, const Vector& b, Vector& out, const F& f) {
  const auto& left = a.of<A>();
  const auto& right = b.of<B>();
  auto& to = out.of<R>();
  if (a.all_values && b.all_values) {
    for (std::size_t i = 0; i < out.size(); ++i) out.state[i] = f(left[i], right[i], to[i]);
    return;
  }
  for (std::size_t i = 0; i < out.size(); ++i) {
    const State state = std::max(a.state[i], b.state[i]);
    out.state[i] = state == State::value ? f(left[i], right[i], to[i]) : state;
  }
}

// The same for numbers of 64 bits whose results are known to fit: computed in all rows, as numbers without a sign,
// whose sums and products wrap around beside what is no value.
template <class F>
void map_narrow(const Vector& a, const Vector& b, Vector& out, const F& f) {
  const std::int64_t* const left = a.narrow.data();
  const std::int64_t* const right = b.narrow.data();
  std::int64_t* const to = out.narrow.data();
  for (std::size_t i = 0; i < out.size(); ++i) {
    to[i] = static_cast<std::int64_t>(f(static_cast<std::uint64_t>(left[i]), static_cast<std::uint64_t>(right[i])));
  }
  if (a.all_values && b.all_values) return;
  for (std::size_t i = 0; i < out.size(); ++i) out.state[i] = std::max(a.state[i], b.state[i]);
}

inline State valid(bool fits) {
  return fits ? State::value : State::overflow;
}
inline State finite(double& value) {
  if (!std::isfinite(value)) return State::null;
  if (value == 0) value = 0;  // one zero: what compares equal is one value
  return State::value;
}

// Texts that are written anew: f(row) where all inputs are values.
template <class F>
void make_text(const Inputs& in, Vector& out, const F& f) {
  for (std::size_t i = 0; i < out.size(); ++i) {
    for (const Vector* input : in) out.state[i] = std::max(out.state[i], input->state[i]);
    if (out.state[i] == State::value) out.text[i] = out.owned.emplace_back(f(i));
  }
}

}  // namespace juniper::engine
