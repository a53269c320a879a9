// Kernels over numbers: arithmetic, division, rounding, conversions.
#include <algorithm>
#include <cmath>
#include <type_traits>

#include "base/exact.h"
#include "engine/vector/operations/kernels.h"
#include "engine/vector/operations/map.h"

namespace juniper::engine::kernels {

using language::Node;

namespace {

// True if all numbers are whole ones that doubles hold exactly, so that one division rounds once.
bool fits_doubles(const Vector& a) {
  constexpr std::uint64_t limit = std::uint64_t{1} << 53;
  std::uint64_t beyond = 0;
  for (const std::int64_t x : a.narrow) beyond |= static_cast<std::uint64_t>(x) + limit > 2 * limit ? 1 : 0;
  return beyond == 0;
}

// Exact results in the representation of the plan: proved to fit, or checked.
struct Add {
  static std::uint64_t narrow(std::uint64_t a, std::uint64_t b) { return a + b; }
  static bool wide(int128 a, int128 b, int128& r) { return !__builtin_add_overflow(a, b, &r); }
  static double real(double a, double b) { return a + b; }
};
struct Subtract {
  static std::uint64_t narrow(std::uint64_t a, std::uint64_t b) { return a - b; }
  static bool wide(int128 a, int128 b, int128& r) { return !__builtin_sub_overflow(a, b, &r); }
  static double real(double a, double b) { return a - b; }
};
struct Multiply {
  static std::uint64_t narrow(std::uint64_t a, std::uint64_t b) { return a * b; }
  static bool wide(int128 a, int128 b, int128& r) { return !__builtin_mul_overflow(a, b, &r); }
  static double real(double a, double b) { return a * b; }
};

template <class Of>
void arithmetic(const Vector& a, const Vector& b, Vector& out) {
  switch (out.repr) {
    case Repr::narrow:
      map_narrow(a, b, out, [](std::uint64_t x, std::uint64_t y) { return Of::narrow(x, y); });
      break;
    case Repr::wide:
      map<int128, int128, int128>(a, b, out, [](auto x, auto y, auto& r) { return valid(Of::wide(x, y, r)); });
      break;
    case Repr::real:
    case Repr::text:
      // A real that leaves the finite numbers is null, as a division by zero is.
      map<double, double, double>(a, b, out, [](double x, double y, double& r) {
        r = Of::real(x, y);
        return finite(r);
      });
  }
}

// a / b as one rounding of the exact quotient where the parts allow it: both are brought to one scale first.
State divide_exact(int128 a, int scale_a, int128 b, int scale_b, double& result) {
  if (b == 0) return State::null;
  const int128 factor = base::power_of_ten(std::abs(scale_a - scale_b));
  int128 same_scale = 0;  // what did not fit is written there, too
  if (__builtin_mul_overflow(scale_a < scale_b ? a : b, factor, &same_scale)) {
    result = base::to_real(a, scale_a) / base::to_real(b, scale_b);
  } else if (scale_a < scale_b) {
    result = static_cast<double>(same_scale) / static_cast<double>(b);
  } else {
    result = static_cast<double>(a) / static_cast<double>(same_scale);
  }
  return finite(result);
}

// div and mod, with the sign of SQL's: towards zero, and the remainder has the sign of the dividend.
template <class T>
void divide_integers(const Vector& a, const Vector& b, Vector& out, bool remainder) {
  map<T, T, T>(a, b, out, [=](T x, T y, T& r) {
    if (y == 0) return State::null;
    if (y == -1) {  // the smallest number has no positive twin
      if (remainder) {
        r = 0;
        return State::value;
      }
      return valid(!__builtin_sub_overflow(T{0}, x, &r));
    }
    r = remainder ? x % y : x / y;
    return State::value;
  });
}

// Rounds every exact number by divide(units, step), computing in C, which holds `step`. `back` brings a result with
// fewer digits than its type shows (round(x, -2) of an integer) to the units of its type.
template <class T, class C, class Divide>
void round_by(const Vector& a, Vector& out, int128 step, int128 back, const Divide& divide) {
  map<T, T>(a, out, [step = static_cast<C>(step), back = static_cast<C>(back), &divide](T x, T& r) {
    C rounded = divide(static_cast<C>(x), step);
    const bool fits = !__builtin_mul_overflow(rounded, back, &rounded);
    r = static_cast<T>(rounded);
    return valid(fits);
  });
}

// Calls visit with a power of ten that the compiler knows, which it divides by without a division; false for any other
// number.
template <class Visit>
bool with_known_power(int128 step, const Visit& visit) {
  const auto try_one = [&](auto known) {
    if (step == known()) visit(known);
    return step == known();
  };
  using std::integral_constant;
  return try_one(integral_constant<std::int64_t, 10>()) || try_one(integral_constant<std::int64_t, 100>()) ||
         try_one(integral_constant<std::int64_t, 1'000>()) || try_one(integral_constant<std::int64_t, 10'000>()) ||
         try_one(integral_constant<std::int64_t, 100'000>()) || try_one(integral_constant<std::int64_t, 1'000'000>()) ||
         try_one(integral_constant<std::int64_t, 10'000'000>());
}

// Rounds exact numbers of both representations.
template <class Divide>
void round_exact(const Node& node, const Vector& a, Vector& out, const Divide& divide) {
  const int scale = node.children[0]->type.scale;
  const int digits = node.children.size() > 1 ? static_cast<int>(node.children[1]->literal.exact()) : 0;
  const int128 step = base::power_of_ten(std::max(0, scale - digits));
  const int128 back = base::power_of_ten(std::max(0, static_cast<int>(node.type.scale) - digits));
  if (out.repr == Repr::wide) return round_by<int128, int128>(a, out, step, back, divide);
  const auto by_known = [&](auto known) {
    // Beside what is no value, too: there is nothing that a division by a known number can't take.
    const std::int64_t* const from = a.narrow.data();
    std::int64_t* const to = out.narrow.data();
    for (std::size_t i = 0; i < out.size(); ++i) to[i] = divide(from[i], std::int64_t{decltype(known)::value});
    out.state = a.state;
  };
  if (back == 1 && with_known_power(step, by_known)) return;
  if (base::fits_int64(step) && base::fits_int64(back)) {
    round_by<std::int64_t, std::int64_t>(a, out, step, back, divide);
  } else {
    round_by<std::int64_t, int128>(a, out, step, back, divide);
  }
}

double round_real(double x, int digits) {
  if (digits == 0) return std::round(x);
  const double factor = std::pow(10.0, std::abs(digits));
  const double rounded = digits > 0 ? std::round(x * factor) / factor : std::round(x / factor) * factor;
  return std::isfinite(rounded) ? rounded : x;
}

// A function of reals.
template <class F>
void map_real(const Inputs& in, Vector& out, const F& f) {
  map<double, double>(*in[0], out, [&](double x, double& r) {
    r = f(x);
    return finite(r);
  });
}

// Calls visit with a zero of the type that exact numbers of a vector have.
template <class Visit>
void with_exact_type(const Vector& numbers, const Visit& visit) {
  if (numbers.repr == Repr::narrow) {
    visit(std::int64_t{});
  } else {
    visit(int128{});
  }
}

}  // namespace

void add(const Node&, const Inputs& in, const Setting&, Vector& out) {
  arithmetic<Add>(*in[0], *in[1], out);
}

void subtract(const Node&, const Inputs& in, const Setting&, Vector& out) {
  arithmetic<Subtract>(*in[0], *in[1], out);
}

void multiply(const Node&, const Inputs& in, const Setting&, Vector& out) {
  arithmetic<Multiply>(*in[0], *in[1], out);
}

void divide(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  if (in[0]->repr == Repr::real) {
    return map<double, double, double>(*in[0], *in[1], out, [](double a, double b, double& r) {
      if (b == 0) return State::null;
      r = a / b;
      return finite(r);
    });
  }
  const int scale_a = node.children[0]->type.scale;
  const int scale_b = node.children[1]->type.scale;
  with_exact_type(*in[0], [&](auto zero) {
    using T = decltype(zero);
    map<T, T, double>(*in[0], *in[1], out,
                      [=](T a, T b, double& r) { return divide_exact(a, scale_a, b, scale_b, r); });
  });
}

void int_divide(const Node&, const Inputs& in, const Setting&, Vector& out) {
  with_exact_type(out, [&](auto zero) { divide_integers<decltype(zero)>(*in[0], *in[1], out, false); });
}

void modulo(const Node&, const Inputs& in, const Setting&, Vector& out) {
  with_exact_type(out, [&](auto zero) { divide_integers<decltype(zero)>(*in[0], *in[1], out, true); });
}

void negate(const Node&, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) return map_real(in, out, [](double x) { return -x; });
  with_exact_type(out, [&](auto zero) {
    using T = decltype(zero);
    map<T, T>(*in[0], out, [](T x, T& r) { return valid(!__builtin_sub_overflow(T{0}, x, &r)); });
  });
}

void rescale(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  const int128 factor = base::power_of_ten(node.type.scale - node.children[0]->type.scale);
  if (out.repr == Repr::narrow) {
    return map<std::int64_t, std::int64_t>(*in[0], out, [&](std::int64_t x, std::int64_t& r) {
      r = x * static_cast<std::int64_t>(factor);
      return State::value;
    });
  }
  map<int128, int128>(*in[0], out, [&](int128 x, int128& r) { return valid(!__builtin_mul_overflow(x, factor, &r)); });
}

void to_real(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  const int scale = node.children[0]->type.scale;
  if (in[0]->repr == Repr::narrow && fits_doubles(*in[0])) {
    const double divisor = static_cast<double>(base::power_of_ten(scale));
    for (std::size_t i = 0; i < out.size(); ++i) out.real[i] = static_cast<double>(in[0]->narrow[i]) / divisor;
    out.state = in[0]->state;
    return;
  }
  with_exact_type(*in[0], [&](auto zero) {
    using T = decltype(zero);
    map<T, double>(*in[0], out, [&](T x, double& r) {
      r = base::to_real(x, scale);
      return State::value;
    });
  });
}

void abs(const Node&, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) return map_real(in, out, [](double x) { return std::fabs(x); });
  with_exact_type(out, [&](auto zero) {
    using T = decltype(zero);
    map<T, T>(*in[0], out, [](T x, T& r) {
      r = x;
      return x < 0 ? valid(!__builtin_sub_overflow(T{0}, x, &r)) : State::value;
    });
  });
}

void sign(const Node&, const Inputs& in, const Setting&, Vector& out) {
  with_type(in[0]->repr, [&](auto zero) {
    using T = decltype(zero);
    if constexpr (!std::is_same_v<T, std::string_view>) {
      map<T, std::int64_t>(*in[0], out, [](T x, std::int64_t& r) {
        r = x > 0 ? 1 : (x < 0 ? -1 : 0);
        return State::value;
      });
    }
  });
}

void round(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) {
    const int digits = node.children.size() > 1 ? static_cast<int>(node.children[1]->literal.exact()) : 0;
    return map_real(in, out, [=](double x) { return round_real(x, digits); });
  }
  round_exact(node, *in[0], out, [](auto x, auto divisor) { return base::divide_rounded(x, divisor); });
}

void floor(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) return map_real(in, out, [](double x) { return std::floor(x); });
  round_exact(node, *in[0], out, [](auto x, auto divisor) { return x / divisor - (x % divisor < 0 ? 1 : 0); });
}

void ceil(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) return map_real(in, out, [](double x) { return std::ceil(x); });
  round_exact(node, *in[0], out, [](auto x, auto divisor) { return x / divisor + (x % divisor > 0 ? 1 : 0); });
}

void trunc(const Node& node, const Inputs& in, const Setting&, Vector& out) {
  if (out.repr == Repr::real) return map_real(in, out, [](double x) { return std::trunc(x); });
  round_exact(node, *in[0], out, [](auto x, auto divisor) { return x / divisor; });
}

void sqrt(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_real(in, out, [](double x) { return std::sqrt(x); });
}

void exp(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_real(in, out, [](double x) { return std::exp(x); });
}

void ln(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map_real(in, out, [](double x) { return std::log(x); });
}

void power(const Node&, const Inputs& in, const Setting&, Vector& out) {
  map<double, double, double>(*in[0], *in[1], out, [](double a, double b, double& r) {
    r = std::pow(a, b);
    return finite(r);
  });
}

}  // namespace juniper::engine::kernels
