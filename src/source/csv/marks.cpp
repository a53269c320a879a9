#include "source/csv/marks.h"

#include <bit>
#include <cstring>

#include "base/instructions.h"

// This file is compiled once for each set of instructions; the best one is chosen when the program runs.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "source/csv/marks.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace juniper::source {
namespace HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;

// One bit for each of 64 bytes.
struct Bits {
  std::uint64_t marks = 0;
  std::uint64_t line_feeds = 0;
  std::uint64_t quotes = 0;
  std::uint64_t returns = 0;
  std::uint64_t beyond_ascii = 0;
};

HWY_INLINE Bits look_at(const char* text, char delimiter) {
  const hn::CappedTag<std::uint8_t, 64> tag;
  const auto delimiters = hn::Set(tag, static_cast<std::uint8_t>(delimiter));
  const auto line_feed = hn::Set(tag, static_cast<std::uint8_t>('\n'));
  const auto quote = hn::Set(tag, static_cast<std::uint8_t>('"'));
  const auto carriage_return = hn::Set(tag, static_cast<std::uint8_t>('\r'));
  const auto high_bit = hn::Set(tag, std::uint8_t{0x80});
  Bits bits;
  for (std::size_t at = 0; at < 64; at += hn::Lanes(tag)) {
    const auto bytes = hn::LoadU(tag, reinterpret_cast<const std::uint8_t*>(text) + at);
    const auto put = [&](auto mask, std::uint64_t& to) HWY_ATTR {
      std::uint8_t stored[8] = {};
      hn::StoreMaskBits(tag, mask, stored);
      std::uint64_t word = 0;
      std::memcpy(&word, stored, sizeof(word));
      to |= word << at;
    };
    put(hn::Eq(bytes, delimiters), bits.marks);
    put(hn::Eq(bytes, line_feed), bits.line_feeds);
    put(hn::Eq(bytes, quote), bits.quotes);
    put(hn::Eq(bytes, carriage_return), bits.returns);
    put(hn::Eq(hn::And(bytes, high_bit), high_bit), bits.beyond_ascii);
  }
  bits.marks |= bits.line_feeds | bits.quotes | bits.returns;
  return bits;
}

void find_marks_here(std::string_view text, char delimiter, Marks& marks) {
  std::uint64_t quotes = 0;
  std::uint64_t returns = 0;
  std::uint64_t beyond_ascii = 0;
  for (std::size_t begin = 0; begin < text.size(); begin += 64) {
    Bits bits = look_at(text.data() + begin, delimiter);
    if (text.size() - begin < 64) {
      const std::uint64_t inside = (std::uint64_t{1} << (text.size() - begin)) - 1;
      for (std::uint64_t* const word : {&bits.marks, &bits.line_feeds, &bits.quotes, &bits.returns, &bits.beyond_ascii})
        *word &= inside;
    }
    quotes |= bits.quotes;
    returns |= bits.returns;
    beyond_ascii |= bits.beyond_ascii;
    marks.line_feeds += static_cast<std::size_t>(std::popcount(bits.line_feeds));
    if (marks.places.size() < marks.count + 64) marks.places.resize(marks.places.size() * 2 + 64);
    std::uint32_t* out = marks.places.data() + marks.count;
    for (std::uint64_t left = bits.marks; left != 0; left &= left - 1)
      *out++ = static_cast<std::uint32_t>(begin) + static_cast<std::uint32_t>(std::countr_zero(left));
    marks.count = static_cast<std::size_t>(out - marks.places.data());
  }
  marks.has_quotes = quotes != 0;
  marks.has_returns = returns != 0;
  marks.ascii = beyond_ascii == 0;
}

}  // namespace HWY_NAMESPACE
}  // namespace juniper::source
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace juniper::source {

JUNIPER_WIDEST(widest_find_marks, find_marks_here);

void find_marks(std::string_view text, char delimiter, Marks& marks) {
  marks.count = 0;
  marks.line_feeds = 0;
  widest_find_marks(text, delimiter, marks);
}

}  // namespace juniper::source
#endif
