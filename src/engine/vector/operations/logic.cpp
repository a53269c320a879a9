// Kernels that compare, decide and choose.
#include <algorithm>
#include <functional>
#include <span>

#include "engine/vector/choices.h"
#include "engine/vector/operations/kernels.h"
#include "engine/vector/operations/map.h"

namespace juniper::engine::kernels {

using language::Node;

namespace {

template <class F>
void compare(const Vector& a, const Vector& b, Vector& out, const F& f) {
  with_type(a.repr, [&](auto zero) {
    using T = decltype(zero);
    map<T, T, std::int64_t>(a, b, out, [&](const T& x, const T& y, std::int64_t& r) {
      r = f(x, y) ? 1 : 0;
      return State::value;
    });
  });
}

void take(const Vector& from, std::size_t row, Vector& out) {
  out.state[row] = from.state[row];
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    if (from.state[row] == State::value) out.of<T>()[row] = from.of<T>()[row];
  });
}

// Views of texts that an input owns must outlive it.
void own_texts(Vector& out) {
  if (out.repr != Repr::text) return;
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (out.state[i] == State::value) out.text[i] = out.owned.emplace_back(out.text[i]);
  }
}

// At the marked rows, what another vector holds.
void replace_at(std::span<const std::uint8_t> marks, const Vector& from, Vector& out) {
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    const T* const values = from.of<T>().data();
    T* const to = out.of<T>().data();
    if constexpr (std::is_same_v<T, std::int64_t> || std::is_same_v<T, double>) {
      choose(marks, values, to);
    } else {
      for (std::size_t i = 0; i < marks.size(); ++i) to[i] = marks[i] != 0 ? values[i] : to[i];
    }
  });
  choose(marks, from.state.data(), out.state.data());
}

void copy_all(const Vector& from, Vector& out) {
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    std::copy_n(from.of<T>().begin(), out.size(), out.of<T>().begin());
  });
  out.state = from.state;
}

// least and greatest; nulls do not count.
template <class Better>
void pick(const Inputs& in, Vector& out, const Better& better) {
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const Vector* best = nullptr;
      for (const Vector* candidate : in) {
        if (candidate->state[i] == State::null) continue;
        if (best == nullptr) {
          best = candidate;
        } else if (candidate->state[i] == State::overflow || best->state[i] == State::overflow) {
          if (candidate->state[i] == State::overflow) best = candidate;
        } else if (better(candidate->of<T>()[i], best->of<T>()[i])) {
          best = candidate;
        }
      }
      if (best == nullptr) {
        out.state[i] = State::null;
      } else {
        take(*best, i, out);
      }
    }
  });
  own_texts(out);
}

}  // namespace

void equal(const Node&, const Inputs& in, const Setting&, Vector& out) {
  compare(*in[0], *in[1], out, std::equal_to<>());
}

void not_equal(const Node&, const Inputs& in, const Setting&, Vector& out) {
  compare(*in[0], *in[1], out, std::not_equal_to<>());
}

void less(const Node&, const Inputs& in, const Setting&, Vector& out) {
  compare(*in[0], *in[1], out, std::less<>());
}

void less_equal(const Node&, const Inputs& in, const Setting&, Vector& out) {
  compare(*in[0], *in[1], out, std::less_equal<>());
}

void and_(const Node&, const Inputs& in, const Setting&, Vector& out) {
  combine(*in[0], *in[1], false, out);
}

void or_(const Node&, const Inputs& in, const Setting&, Vector& out) {
  combine(*in[0], *in[1], true, out);
}

void not_(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<std::int64_t, std::int64_t>(*in[0], out, [](std::int64_t x, std::int64_t& r) {
    r = x == 0 ? 1 : 0;
    return State::value;
  });
}

void is_null(const Node&, const Inputs& in, const Setting&, Vector& out) {
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (in[0]->state[i] == State::overflow) out.state[i] = State::overflow;
    out.narrow[i] = in[0]->state[i] == State::null ? 1 : 0;
  }
}

void least(const Node&, const Inputs& in, const Setting&, Vector& out) {
  pick(in, out, [](const auto& x, const auto& y) { return x < y; });
}

void greatest(const Node&, const Inputs& in, const Setting&, Vector& out) {
  pick(in, out, [](const auto& x, const auto& y) { return y < x; });
}

void is_distinct(const Node&, const Inputs& in, const Setting&, Vector& out) {
  const Vector& a = *in[0];
  const Vector& b = *in[1];
  with_type(a.repr, [&](auto zero) {
    using T = decltype(zero);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const bool both = a.state[i] == State::value && b.state[i] == State::value;
      if (a.state[i] == State::overflow || b.state[i] == State::overflow) {
        out.state[i] = State::overflow;
      } else {
        out.narrow[i] = (both ? a.of<T>()[i] != b.of<T>()[i] : a.state[i] != b.state[i]) ? 1 : 0;
      }
    }
  });
}

// a = b1 or a = b2 or …
void in(const Node&, const Inputs& in, const Setting&, Vector& out) {
  with_type(in[0]->repr, [&](auto zero) {
    using T = decltype(zero);
    for (std::size_t i = 0; i < out.size(); ++i) {
      out.narrow[i] = 0;
      if (in[0]->state[i] != State::value) {
        out.state[i] = in[0]->state[i];
        continue;
      }
      for (std::size_t m = 1; m < in.size(); ++m) {
        if (in[m]->state[i] != State::value) {
          out.state[i] = std::max(out.state[i], in[m]->state[i]);
        } else if (in[m]->of<T>()[i] == in[0]->of<T>()[i]) {
          out.narrow[i] = 1;
          out.state[i] = State::value;
          break;
        }
      }
    }
  });
}

// The first condition that holds decides, so that the last ones are looked at first.
void cases(const Node&, const Inputs& in, const Setting&, Vector& out) {
  copy_all(*in.back(), out);
  std::vector<std::uint8_t> holds(out.size());
  for (std::size_t branch = in.size() - 1; branch >= 2; branch -= 2) {
    const Vector& condition = *in[branch - 2];
    mark_true(condition, holds);
    replace_at(holds, *in[branch - 1], out);
    if (condition.all_values) continue;
    for (std::size_t i = 0; i < out.size(); ++i)
      out.state[i] = condition.state[i] == State::overflow ? State::overflow : out.state[i];
  }
  own_texts(out);
}

// The first that is not null, so that the last ones are looked at first.
void coalesce(const Node&, const Inputs& in, const Setting&, Vector& out) {
  copy_all(*in.back(), out);
  std::vector<std::uint8_t> holds(out.size());
  for (std::size_t i = in.size() - 1; i-- > 0;) {
    const std::vector<State>& states = in[i]->state;
    for (std::size_t row = 0; row < holds.size(); ++row) holds[row] = states[row] != State::null ? 255 : 0;
    replace_at(holds, *in[i], out);
  }
  own_texts(out);
}

}  // namespace juniper::engine::kernels
