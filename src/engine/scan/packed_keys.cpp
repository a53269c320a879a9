#include "engine/scan/packed_keys.h"

#include <xxhash.h>

#include <algorithm>
#include <bit>
#include <numeric>

namespace juniper::engine {

std::size_t HashPackedKey::operator()(PackedKey key) const {
  return XXH3_64bits(&key, sizeof(key));
}

KeyLayout::KeyLayout(const std::vector<std::uint64_t>& last_codes) : shifts_(last_codes.size()) {
  for (const std::uint64_t last : last_codes) widths_.push_back(static_cast<unsigned>(std::bit_width(last)));
  // The widest lies lowest: what has few codes, such as years, often stays the same for many rows, whose groups then
  // stand together in a table.
  std::vector<std::size_t> order(last_codes.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return widths_[a] > widths_[b]; });
  for (const std::size_t column : order) {
    shifts_[column] = bits_;
    bits_ += widths_[column];
  }
  if (!fits()) return;
  for (std::size_t column = 0; column < last_codes.size(); ++column) last_ = with(last_, column, last_codes[column]);
}

void PackedKeys::push_back_wide(PackedKey key) {
  if (auto* const keys = std::get_if<base::GrowingVector<std::uint64_t>>(&keys_)) {
    keys->push_back(static_cast<std::uint64_t>(key));
  } else {
    std::get<base::GrowingVector<PackedKey>>(keys_).push_back(key);
  }
}

}  // namespace juniper::engine
