#include "store/text_keys.h"

#include <algorithm>
#include <bit>

#include "base/bits.h"

namespace juniper::store {

void TextKeys::look_at(std::string_view text) {
  const std::size_t held = std::min(text.size(), most_places);
  for (std::size_t p = 0; p < held; ++p) seen_[p][static_cast<unsigned char>(text[p])] = 1;
  if (text.size() < most_places) {
    seen_[text.size()][ending] = 1;
  } else {
    longer_ = longer_ || text.size() > most_places;
  }
}

void TextKeys::settle() {
  bool upper = true;
  unsigned free = 64;  // bits in the word at hand
  whole_ = !longer_;
  for (const auto& seen : seen_) {
    Place place;
    if (seen[ending] != 0) place.symbols.push_back(ending);
    for (std::uint16_t byte = 0; byte < ending; ++byte) {
      if (seen[byte] != 0) place.symbols.push_back(byte);
    }
    if (place.symbols.empty() || place.symbols == std::vector<std::uint16_t>{ending}) break;  // behind all texts
    const unsigned bits = base::bits_for(place.symbols.size() - 1);
    if (bits > free && upper) {
      upper = false;
      free = lower_bits;
    }
    if (bits > free) {
      whole_ = false;
      break;
    }
    free -= bits;
    place.shift = bits == 0 ? 0 : free;
    place.mask = static_cast<std::uint16_t>((1U << bits) - 1);
    for (std::size_t s = 0; s < place.symbols.size(); ++s) {
      if (place.symbols[s] != ending) place.shifted[place.symbols[s]] = std::uint64_t{s} << place.shift;
    }
    std::fill_n(place_of_bit_.begin() + place.shift + (upper ? lower_bits : 0), bits,
                static_cast<std::uint8_t>(places_.size()));
    places_.push_back(std::move(place));
    if (upper) upper_places_ = places_.size();
  }
}

std::size_t TextKeys::rewrite(Key before, Key key, std::string& text) const {
  const auto highest_bit = [](std::uint64_t word) { return 63 - static_cast<unsigned>(std::countl_zero(word)); };
  const auto upper = static_cast<std::uint64_t>(key >> lower_bits);
  const auto lower = static_cast<std::uint32_t>(key);
  std::size_t shared = 0;
  if (const Key differs = before ^ key; !text.empty() && differs != 0) {
    const auto high = static_cast<std::uint64_t>(differs >> lower_bits);
    shared =
        place_of_bit_[high != 0 ? lower_bits + highest_bit(high) : highest_bit(static_cast<std::uint32_t>(differs))];
  }
  std::array<char, most_places> bytes;
  std::size_t count = 0;
  for (std::size_t p = shared; p < places_.size(); ++p) {
    const Place& place = places_[p];
    const std::uint64_t word = p < upper_places_ ? upper : lower;
    const std::uint16_t symbol = place.symbols[(word >> place.shift) & place.mask];
    if (symbol == ending) break;
    bytes[count++] = static_cast<char>(symbol);
  }
  text.resize(shared);
  text.append(bytes.data(), count);
  return shared;
}

}  // namespace juniper::store
