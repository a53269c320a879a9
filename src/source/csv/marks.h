// The bytes of a CSV text that structure it, found many at a time.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

namespace juniper::source {

// Bytes that must be readable behind a text whose marks are looked for.
inline constexpr std::size_t marks_overrun = 64;

struct Marks {
  // Where a delimiter, a line feed, a carriage return or a quote stands, in order.
  std::vector<std::uint32_t> places;
  std::size_t count = 0;  // of `places`; what lies behind is left over
  std::size_t line_feeds = 0;
  bool has_quotes = false;
  bool has_returns = false;
  bool ascii = true;
};

// Looks 64 bytes at a time for what `marks` tells, with the widest instructions that the processor has. The text has
// less than 4 GiB.
void find_marks(std::string_view text, char delimiter, Marks& marks);

}  // namespace juniper::source
