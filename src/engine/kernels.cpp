#include "engine/kernels.h"

#include <unicode/locid.h>
#include <unicode/unistr.h>
#include <utf8.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <span>

#include "base/calendar.h"
#include "base/exact.h"
#include "engine/choices.h"

namespace juniper::engine {

namespace {

using language::Function;
using language::Node;
using language::Op;
using Inputs = std::vector<const Vector*>;

// --- loops ----------------------------------------------------------------------------------------------------------

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

// True if all numbers are whole ones that doubles hold exactly, so that one division rounds once.
bool fits_doubles(const Vector& a) {
  constexpr std::uint64_t limit = std::uint64_t{1} << 53;
  std::uint64_t beyond = 0;
  for (const std::int64_t x : a.narrow) beyond |= static_cast<std::uint64_t>(x) + limit > 2 * limit ? 1 : 0;
  return beyond == 0;
}

State valid(bool fits) {
  return fits ? State::value : State::overflow;
}
State finite(double& value) {
  if (!std::isfinite(value)) return State::null;
  if (value == 0) value = 0;  // one zero: what compares equal is one value
  return State::value;
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

template <class Operation>
void arithmetic(const Vector& a, const Vector& b, Vector& out) {
  switch (out.repr) {
    case Repr::narrow:
      map_narrow(a, b, out, [](std::uint64_t x, std::uint64_t y) { return Operation::narrow(x, y); });
      break;
    case Repr::wide:
      map<int128, int128, int128>(a, b, out, [](auto x, auto y, auto& r) { return valid(Operation::wide(x, y, r)); });
      break;
    default:
      // A real that leaves the finite numbers is null, as a division by zero is.
      map<double, double, double>(a, b, out, [](double x, double y, double& r) {
        r = Operation::real(x, y);
        return finite(r);
      });
  }
}

// --- division -------------------------------------------------------------------------------------------------------

// a / b as one rounding of the exact quotient where the parts allow it: both are brought to one scale first.
State divide_exact(int128 a, int scale_a, int128 b, int scale_b, double& result) {
  if (b == 0) return State::null;
  const int128 factor = base::power_of_ten(std::abs(scale_a - scale_b));
  int128& smaller = scale_a < scale_b ? a : b;
  if (!__builtin_mul_overflow(smaller, factor, &smaller)) {
    result = static_cast<double>(a) / static_cast<double>(b);
  } else {
    result = base::to_real(a, scale_a) / base::to_real(b, scale_b);
  }
  return finite(result);
}

template <class T>
void divide(const Node& node, const Inputs& in, Vector& out) {
  if constexpr (std::is_same_v<T, double>) {
    map<double, double, double>(*in[0], *in[1], out, [](double a, double b, double& r) {
      if (b == 0) return State::null;
      r = a / b;
      return finite(r);
    });
  } else {
    const int scale_a = node.children[0]->type.scale;
    const int scale_b = node.children[1]->type.scale;
    map<T, T, double>(*in[0], *in[1], out,
                      [=](T a, T b, double& r) { return divide_exact(a, scale_a, b, scale_b, r); });
  }
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

// --- comparison and logic -------------------------------------------------------------------------------------------

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

void is_distinct(const Vector& a, const Vector& b, Vector& out) {
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
void in_list(const Inputs& in, Vector& out) {
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

// The first condition that holds decides, so that the last ones are looked at first.
void cases(const Inputs& in, Vector& out) {
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
void coalesce(const Inputs& in, Vector& out) {
  copy_all(*in.back(), out);
  std::vector<std::uint8_t> holds(out.size());
  for (std::size_t i = in.size() - 1; i-- > 0;) {
    const std::vector<State>& states = in[i]->state;
    for (std::size_t row = 0; row < holds.size(); ++row) holds[row] = states[row] != State::null ? 255 : 0;
    replace_at(holds, *in[i], out);
  }
  own_texts(out);
}

// least and greatest; nulls do not count.
void pick(const Inputs& in, Vector& out, Function function) {
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
        } else if (const T& x = candidate->of<T>()[i], &y = best->of<T>()[i];
                   function == Function::least ? x < y : y < x) {
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

// --- text -----------------------------------------------------------------------------------------------------------

// SQL's like: % is any text, _ any one character, no escape.
bool is_like(std::string_view text, std::string_view pattern) {
  std::size_t t = 0;
  std::size_t p = 0;
  std::size_t star = std::string_view::npos;
  std::size_t star_text = 0;
  const auto next = [](std::string_view s, std::size_t at) {
    ++at;
    while (at < s.size() && (static_cast<unsigned char>(s[at]) & 0xC0) == 0x80) ++at;
    return at;
  };
  while (t < text.size()) {
    if (p < pattern.size() && pattern[p] == '%') {
      star = p++;
      star_text = t;
    } else if (p < pattern.size() && pattern[p] == '_') {
      ++p;
      t = next(text, t);
    } else if (p < pattern.size() && pattern[p] == text[t]) {
      ++p;
      ++t;
    } else if (star != std::string_view::npos) {
      p = star + 1;
      star_text = next(text, star_text);
      t = star_text;
    } else {
      return false;
    }
  }
  while (p < pattern.size() && pattern[p] == '%') ++p;
  return p == pattern.size();
}

std::string replace_all(std::string_view text, std::string_view what, std::string_view with) {
  std::string result;
  while (!what.empty()) {
    const std::size_t at = text.find(what);
    if (at == std::string_view::npos) break;
    result.append(text.substr(0, at)).append(with);
    text.remove_prefix(at + what.size());
  }
  return result.append(text);
}

// The code points `from` (counted from 1) and on, `length` of them, as SQL's substring counts: positions before the
// text are counted but hold nothing.
std::string substring(std::string_view text, std::int64_t from, std::int64_t length) {
  std::int64_t end = 0;
  if (__builtin_add_overflow(from, std::max<std::int64_t>(length, 0), &end))
    end = std::numeric_limits<std::int64_t>::max();
  std::string result;
  std::int64_t position = 0;
  for (const char c : text) {
    if ((static_cast<unsigned char>(c) & 0xC0) != 0x80) ++position;
    if (position >= end) break;
    if (position >= from) result += c;
  }
  return result;
}

std::string change_case(std::string_view text, Function function) {
  icu::UnicodeString unicode =
      icu::UnicodeString::fromUTF8(icu::StringPiece(text.data(), static_cast<int>(text.size())));
  // The root locale's rules: the same result on every machine.
  function == Function::upper ? unicode.toUpper(icu::Locale::getRoot()) : unicode.toLower(icu::Locale::getRoot());
  std::string result;
  return unicode.toUTF8String(result);
}

std::string trimmed(std::string_view text) {
  const std::size_t begin = text.find_first_not_of(' ');
  if (begin == std::string_view::npos) return "";
  return std::string(text.substr(begin, text.find_last_not_of(' ') - begin + 1));
}

template <class F>
void make_text(const Inputs& in, Vector& out, const F& f) {
  for (std::size_t i = 0; i < out.size(); ++i) {
    for (const Vector* input : in) out.state[i] = std::max(out.state[i], input->state[i]);
    if (out.state[i] == State::value) out.text[i] = out.owned.emplace_back(f(i));
  }
}

// --- numbers --------------------------------------------------------------------------------------------------------

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

template <class T>
void round_exact(const Node& node, const Vector& a, Vector& out) {
  const int scale = node.children[0]->type.scale;
  const int digits = node.children.size() > 1 ? static_cast<int>(node.children[1]->literal.exact()) : 0;
  const int128 step = base::power_of_ten(std::max(0, scale - digits));
  const int128 back = base::power_of_ten(std::max(0, static_cast<int>(node.type.scale) - digits));
  const auto run = [&](const auto& divide) {
    if constexpr (std::is_same_v<T, std::int64_t>) {
      const auto by_known = [&](auto known) {
        // Beside what is no value, too: there is nothing that a division by a known number can't take.
        const T* const from = a.narrow.data();
        T* const to = out.narrow.data();
        for (std::size_t i = 0; i < out.size(); ++i) to[i] = divide(from[i], T{decltype(known)::value});
        out.state = a.state;
      };
      if (back == 1 && with_known_power(step, by_known)) return;
    }
    if (base::fits_int64(step) && base::fits_int64(back)) {
      round_by<T, T>(a, out, step, back, divide);
    } else {
      round_by<T, int128>(a, out, step, back, divide);
    }
  };
  switch (node.function) {
    case Function::round:
      return run([](auto x, auto divisor) { return base::divide_rounded(x, divisor); });
    case Function::floor:
      return run([](auto x, auto divisor) { return x / divisor - (x % divisor < 0 ? 1 : 0); });
    case Function::ceil:
      return run([](auto x, auto divisor) { return x / divisor + (x % divisor > 0 ? 1 : 0); });
    default:
      return run([](auto x, auto divisor) { return x / divisor; });
  }
}

double round_real(double x, int digits) {
  if (digits == 0) return std::round(x);
  const double factor = std::pow(10.0, std::abs(digits));
  const double rounded = digits > 0 ? std::round(x * factor) / factor : std::round(x / factor) * factor;
  return std::isfinite(rounded) ? rounded : x;
}

void number_function(const Node& node, const Inputs& in, Vector& out) {
  const Vector& a = *in[0];
  if (a.repr == Repr::real && out.repr == Repr::real) {
    const int digits = node.children.size() > 1 && node.function == Function::round
                           ? static_cast<int>(node.children[1]->literal.exact())
                           : 0;
    map<double, double>(a, out, [&](double x, double& r) {
      switch (node.function) {
        case Function::abs:
          r = std::fabs(x);
          break;
        case Function::round:
          r = round_real(x, digits);
          break;
        case Function::floor:
          r = std::floor(x);
          break;
        case Function::ceil:
          r = std::ceil(x);
          break;
        case Function::trunc:
          r = std::trunc(x);
          break;
        case Function::sqrt:
          r = std::sqrt(x);
          break;
        case Function::exp:
          r = std::exp(x);
          break;
        default:
          r = std::log(x);
          break;
      }
      return finite(r);
    });
    return;
  }
  with_type(a.repr, [&](auto zero) {
    using T = decltype(zero);
    if constexpr (!std::is_same_v<T, std::string_view>) {
      if (node.function == Function::sign) {
        map<T, std::int64_t>(a, out, [](T x, std::int64_t& r) {
          r = x > 0 ? 1 : (x < 0 ? -1 : 0);
          return State::value;
        });
      } else if constexpr (!std::is_same_v<T, double>) {
        if (node.function == Function::abs) {
          map<T, T>(a, out, [](T x, T& r) {
            r = x;
            return x < 0 ? valid(!__builtin_sub_overflow(T{0}, x, &r)) : State::value;
          });
        } else {
          round_exact<T>(node, a, out);
        }
      }
    }
  });
}

// --- dates and times ------------------------------------------------------------------------------------------------

std::int64_t iso_week(std::int64_t days) {
  // The week belongs to the year of its Thursday.
  const std::int64_t weekday = ((days + 3) % 7 + 7) % 7;  // 0 is Monday
  const std::int64_t thursday = days - weekday + 3;
  const int year = static_cast<int>(base::civil_from_days(thursday).year());
  return (thursday - base::days_from_civil(year, 1, 1)) / 7 + 1;
}

std::int64_t date_part(Function function, std::int64_t days) {
  const auto civil = base::civil_from_days(days);
  switch (function) {
    case Function::year:
      return static_cast<int>(civil.year());
    case Function::quarter:
      return (static_cast<unsigned>(civil.month()) + 2) / 3;
    case Function::month:
      return static_cast<unsigned>(civil.month());
    case Function::day:
      return static_cast<unsigned>(civil.day());
    case Function::weekday:
      return ((days + 3) % 7 + 7) % 7 + 1;
    default:
      return iso_week(days);
  }
}

void moment_function(const Node& node, const Inputs& in, Vector& out) {
  const bool from_datetime = node.children[0]->type.kind == TypeKind::datetime;
  map<std::int64_t, std::int64_t>(*in[0], out, [&](std::int64_t x, std::int64_t& r) {
    const std::int64_t days = from_datetime ? base::floor_divide(x, base::microseconds_per_day) : x;
    const std::int64_t seconds = (from_datetime ? x - days * base::microseconds_per_day : x) / 1'000'000;
    switch (node.function) {
      case Function::date:
        r = days;
        break;
      case Function::time:
        r = x - days * base::microseconds_per_day;
        break;
      case Function::hour:
        r = seconds / 3600;
        break;
      case Function::minute:
        r = seconds / 60 % 60;
        break;
      case Function::second:
        r = seconds % 60;
        break;
      default:
        r = date_part(node.function, days);
    }
    return State::value;
  });
}

// A date moved out of the years 1 to 9999 is null.
State move_date(Function function, std::int64_t days, std::int64_t by, std::int64_t& result) {
  const base::Unit unit = function == Function::add_days
                              ? base::Unit::day
                              : (function == Function::add_months ? base::Unit::month : base::Unit::year);
  const auto moved = base::moved(days, by, unit);
  if (!moved) return State::null;
  result = *moved;
  return State::value;
}

// --- dispatch -------------------------------------------------------------------------------------------------------

void call(const Node& node, const Inputs& in, const Setting& setting, Vector& out) {
  const auto text = [&](std::size_t input, std::size_t row) { return in[input]->text[row]; };
  const auto text_test = [&](const auto& test) {
    map<std::string_view, std::string_view, std::int64_t>(*in[0], *in[1], out,
                                                          [&](std::string_view a, std::string_view b, std::int64_t& r) {
                                                            r = test(a, b) ? 1 : 0;
                                                            return State::value;
                                                          });
  };
  switch (node.function) {
    case Function::least:
    case Function::greatest:
      return pick(in, out, node.function);
    case Function::coalesce:
      return coalesce(in, out);
    case Function::power:
      return map<double, double, double>(*in[0], *in[1], out, [](double a, double b, double& r) {
        r = std::pow(a, b);
        return finite(r);
      });
    case Function::length:
      return map<std::string_view, std::int64_t>(*in[0], out, [](std::string_view s, std::int64_t& r) {
        r = utf8::unchecked::distance(s.begin(), s.end());
        return State::value;
      });
    case Function::upper:
    case Function::lower:
      return make_text(in, out, [&](std::size_t i) { return change_case(text(0, i), node.function); });
    case Function::trim:
      return make_text(in, out, [&](std::size_t i) { return trimmed(text(0, i)); });
    case Function::substring:
      return make_text(in, out, [&](std::size_t i) {
        return substring(text(0, i), in[1]->narrow[i],
                         in.size() > 2 ? in[2]->narrow[i] : std::numeric_limits<std::int64_t>::max());
      });
    case Function::replace:
      return make_text(in, out, [&](std::size_t i) { return replace_all(text(0, i), text(1, i), text(2, i)); });
    case Function::starts_with:
      return text_test([](auto a, auto b) { return a.starts_with(b); });
    case Function::ends_with:
      return text_test([](auto a, auto b) { return a.ends_with(b); });
    case Function::contains:
      return text_test([](auto a, auto b) { return a.find(b) != std::string_view::npos; });
    case Function::year:
    case Function::quarter:
    case Function::month:
    case Function::day:
    case Function::weekday:
    case Function::week:
    case Function::hour:
    case Function::minute:
    case Function::second:
    case Function::date:
    case Function::time:
      return moment_function(node, in, out);
    case Function::add_days:
    case Function::add_months:
    case Function::add_years:
      return map<std::int64_t, std::int64_t, std::int64_t>(
          *in[0], *in[1], out,
          [&](std::int64_t d, std::int64_t n, std::int64_t& r) { return move_date(node.function, d, n, r); });
    case Function::datetime:
      return map<std::int64_t, std::int64_t, std::int64_t>(*in[0], *in[1], out,
                                                           [](std::int64_t date, std::int64_t time, std::int64_t& r) {
                                                             r = date * base::microseconds_per_day + time;
                                                             return State::value;
                                                           });
    case Function::days_between:
      return map<std::int64_t, std::int64_t, std::int64_t>(*in[0], *in[1], out,
                                                           [](std::int64_t a, std::int64_t b, std::int64_t& r) {
                                                             r = b - a;
                                                             return State::value;
                                                           });
    case Function::months_between:
    case Function::years_between:
      return map<std::int64_t, std::int64_t, double>(
          *in[0], *in[1], out, [&](std::int64_t a, std::int64_t b, double& r) {
            r = node.function == Function::years_between ? base::years_between(a, b) : base::months_between(a, b);
            return State::value;
          });
    case Function::start_of:
    case Function::end_of:
      return map<std::int64_t, std::int64_t, std::int64_t>(
          *in[0], *in[1], out, [&](std::int64_t d, std::int64_t unit, std::int64_t& r) {
            r = (node.function == Function::start_of ? base::start_of : base::end_of)(d, static_cast<base::Unit>(unit));
            return State::value;
          });
    case Function::today:
      std::fill(out.narrow.begin(), out.narrow.end(), setting.today);
      return;
    default:
      return number_function(node, in, out);
  }
}

}  // namespace

void apply(const Node& node, const Inputs& in, const Setting& setting, Vector& out) {
  switch (node.op) {
    case Op::add:
      return arithmetic<Add>(*in[0], *in[1], out);
    case Op::subtract:
      return arithmetic<Subtract>(*in[0], *in[1], out);
    case Op::multiply:
      return arithmetic<Multiply>(*in[0], *in[1], out);
    case Op::divide:
      with_type(in[0]->repr, [&](auto zero) {
        if constexpr (!std::is_same_v<decltype(zero), std::string_view>) divide<decltype(zero)>(node, in, out);
      });
      return;
    case Op::int_divide:
    case Op::modulo: {
      const bool remainder = node.op == Op::modulo;
      return out.repr == Repr::narrow ? divide_integers<std::int64_t>(*in[0], *in[1], out, remainder)
                                      : divide_integers<int128>(*in[0], *in[1], out, remainder);
    }
    case Op::negate:
      with_type(out.repr, [&](auto zero) {
        using T = decltype(zero);
        if constexpr (std::is_same_v<T, double>) {
          map<T, T>(*in[0], out, [](T x, T& r) {
            r = -x;
            return finite(r);
          });
        } else if constexpr (!std::is_same_v<T, std::string_view>) {
          map<T, T>(*in[0], out, [](T x, T& r) { return valid(!__builtin_sub_overflow(T{0}, x, &r)); });
        }
      });
      return;
    case Op::equal:
      return compare(*in[0], *in[1], out, std::equal_to<>());
    case Op::not_equal:
      return compare(*in[0], *in[1], out, std::not_equal_to<>());
    case Op::less:
      return compare(*in[0], *in[1], out, std::less<>());
    case Op::less_equal:
      return compare(*in[0], *in[1], out, std::less_equal<>());
    case Op::is_distinct:
      return is_distinct(*in[0], *in[1], out);
    case Op::in:
      return in_list(in, out);
    case Op::like:
      return map<std::string_view, std::string_view, std::int64_t>(
          *in[0], *in[1], out, [](std::string_view s, std::string_view p, std::int64_t& r) {
            r = is_like(s, p) ? 1 : 0;
            return State::value;
          });
    case Op::and_:
      return combine(*in[0], *in[1], false, out);
    case Op::or_:
      return combine(*in[0], *in[1], true, out);
    case Op::not_:
      return map<std::int64_t, std::int64_t>(*in[0], out, [](std::int64_t x, std::int64_t& r) {
        r = x == 0 ? 1 : 0;
        return State::value;
      });
    case Op::is_null:
      for (std::size_t i = 0; i < out.size(); ++i) {
        if (in[0]->state[i] == State::overflow) out.state[i] = State::overflow;
        out.narrow[i] = in[0]->state[i] == State::null ? 1 : 0;
      }
      return;
    case Op::concat:
      return make_text(in, out, [&](std::size_t i) { return std::string(in[0]->text[i]).append(in[1]->text[i]); });
    case Op::cases:
      return cases(in, out);
    case Op::rescale: {
      const int128 factor = base::power_of_ten(node.type.scale - node.children[0]->type.scale);
      if (out.repr == Repr::narrow) {
        return map<std::int64_t, std::int64_t>(*in[0], out, [&](std::int64_t x, std::int64_t& r) {
          r = x * static_cast<std::int64_t>(factor);
          return State::value;
        });
      }
      return map<int128, int128>(*in[0], out,
                                 [&](int128 x, int128& r) { return valid(!__builtin_mul_overflow(x, factor, &r)); });
    }
    case Op::to_real: {
      const int scale = node.children[0]->type.scale;
      if (in[0]->repr == Repr::narrow && fits_doubles(*in[0])) {
        const double divisor = static_cast<double>(base::power_of_ten(scale));
        for (std::size_t i = 0; i < out.size(); ++i) out.real[i] = static_cast<double>(in[0]->narrow[i]) / divisor;
        out.state = in[0]->state;
        return;
      }
      with_type(in[0]->repr, [&](auto zero) {
        using T = decltype(zero);
        if constexpr (!std::is_same_v<T, std::string_view>) {
          map<T, double>(*in[0], out, [&](T x, double& r) {
            if constexpr (std::is_same_v<T, double>) {
              r = x;
            } else {
              r = base::to_real(x, scale);
            }
            return State::value;
          });
        }
      });
      return;
    }
    case Op::call:
      return call(node, in, setting, out);
    case Op::literal:
    case Op::column:
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
      return;  // leaves: the program reads them
  }
}

}  // namespace juniper::engine
