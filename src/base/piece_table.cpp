#include "base/piece_table.h"

#include <algorithm>

namespace juniper::base {

std::optional<PieceTable> PieceTable::of(const PackedTable& table) {
  constexpr std::size_t first_cache = std::size_t{1} << 14;  // what of it such a table may take, in bytes
  constexpr std::uint32_t most = (1U << pieces::number_bits) - 1;
  constexpr unsigned most_log = 10;
  if (table.words().size_bytes() <= first_cache) return std::nullopt;
  std::vector<std::size_t> changes;
  std::uint32_t before = table[0];
  for (std::size_t code = 0; code < table.size(); ++code) {
    const std::uint32_t number = table[code];
    if (number == before) continue;
    changes.push_back(code);
    if (number > most || changes.size() > first_cache / sizeof(std::uint32_t)) return std::nullopt;
    before = number;
  }
  if (table[0] > most) return std::nullopt;
  // As many codes a word as leave at most one change within each.
  const auto fits = [&](unsigned log) {
    for (std::size_t i = 1; i < changes.size(); ++i) {
      const bool within = changes[i] % (std::size_t{1} << log) != 0;
      if (within && changes[i] >> log == changes[i - 1] >> log && changes[i - 1] % (std::size_t{1} << log) != 0)
        return false;
    }
    return true;
  };
  unsigned log = most_log;
  while (log > 0 && !fits(log)) --log;
  const std::size_t count = (table.size() >> log) + 1;
  if (log == 0 || count * sizeof(std::uint32_t) > first_cache) return std::nullopt;
  PieceTable pieces;
  pieces.log_codes_ = log;
  for (std::size_t word = 0; word < count; ++word) {
    const std::size_t begin = word << log;
    const std::size_t end = std::min(table.size(), (word + 1) << log);
    std::uint32_t first = 0;
    std::uint32_t second = 0;
    std::size_t place = std::size_t{1} << log;  // from which on the second stands there
    if (begin < end) {
      first = second = table[begin];
      for (std::size_t code = begin + 1; code < end && second == first; ++code) {
        second = table[code];
        if (second != first) place = code - begin;
      }
    }
    pieces.words_.push_back(first | second << pieces::number_bits |
                            static_cast<std::uint32_t>(place) << (2 * pieces::number_bits));
  }
  return pieces;
}

}  // namespace juniper::base
