// Exact numbers in 128 bits: powers of ten, rounding, text.
#pragma once

#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <string_view>

#include "juniper/value.h"

namespace juniper::base {

__extension__ using uint128 = unsigned __int128;

inline constexpr int max_scale = 18;
inline constexpr int128 int128_max = static_cast<int128>((static_cast<uint128>(1) << 127) - 1);
inline constexpr int128 int128_min = -int128_max - 1;

// 10 to the power of 0 to 38, at compile time as well.
constexpr int128 power_of_ten(int exponent) {
  int128 value = 1;
  for (int i = 0; i < exponent; ++i) value *= 10;
  return value;
}

constexpr bool fits_int64(int128 value) {
  return value >= std::numeric_limits<std::int64_t>::min() && value <= std::numeric_limits<std::int64_t>::max();
}

// value / divisor with halves rounded away from zero, for 64 or 128 bits. `divisor` is positive.
template <class Integer>
constexpr Integer divide_rounded(Integer value, Integer divisor) {
  const Integer quotient = value / divisor;
  const Integer rest = value % divisor;
  const Integer magnitude = rest < 0 ? -rest : rest;
  // Without branches, which nothing could foresee.
  const Integer away = (value < 0 ? Integer{-1} : Integer{1}) * Integer{magnitude >= divisor - magnitude};
  return quotient + away;
}

// The nearest double to units * 10^-scale.
double to_real(int128 units, int scale);

// "-12.340" for (-12340, 3)
std::string exact_text(int128 units, int scale);

// Reads a plain number ("-12.34") into units of 10^-scale. Nothing if the text is anything else, has more
// significant digits after the point than the scale, or does not fit 128 bits.
std::optional<int128> parse_exact(std::string_view text, int scale);

}  // namespace juniper::base
