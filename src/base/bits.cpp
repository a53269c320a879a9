#include "base/bits.h"

#include <algorithm>
#include <cstring>

namespace juniper::base {

// All but the last few are read by loads of eight bytes from any address, of which a number of up to 57 bits never
// needs a second one.
void unpack(const std::uint64_t* words, std::size_t count, unsigned bits, std::uint64_t base, std::uint64_t* out) {
  std::size_t i = 0;
  if (bits != 0 && bits <= 57) {
    const auto* const bytes = reinterpret_cast<const unsigned char*>(words);
    const std::uint64_t mask = (std::uint64_t{1} << bits) - 1;
    const std::size_t last_load = words_for(count, bits) * 8 - 8;
    const std::size_t whole = std::min(count, (last_load * 8 + 7) / bits);
    for (; i < whole; ++i) {
      const std::size_t bit = i * bits;
      std::uint64_t v = 0;
      std::memcpy(&v, bytes + bit / 8, sizeof(v));
      out[i] = base + (v >> bit % 8 & mask);
    }
  }
  for (; i < count; ++i) out[i] = base + unpack_one(words, i, bits);
}

}  // namespace juniper::base
