// Units in which texts name durations.
#pragma once

#include <cstdint>
#include <optional>
#include <string_view>

namespace juniper::base {

// The nanoseconds of "us", "ms" and "s"; nothing for any other word.
constexpr std::optional<std::int64_t> nanoseconds_in(std::string_view unit) {
  if (unit == "us") return 1'000;
  if (unit == "ms") return 1'000'000;
  if (unit == "s") return 1'000'000'000;
  return std::nullopt;
}

}  // namespace juniper::base
