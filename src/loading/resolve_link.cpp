#include "loading/resolve_link.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <limits>
#include <vector>

#include "base/large_vector.h"

namespace juniper::loading {

namespace {

constexpr std::uint64_t unknown = ~std::uint64_t{0};
constexpr std::uint64_t absent = unknown - 1;

// The codes that a column's values have in another column. Each distinct code is looked up once, where the codes are
// few enough to be remembered by number.
class Translation {
 public:
  Translation(const store::Column& from, const store::Column& to) : from_(from), to_(to) {
    if (from.null_code < 4 * from.rows + 1024) known_.assign(from.null_code + 1, unknown);
  }
  // `absent` for null and for values that the other column does not have.
  std::uint64_t operator()(std::uint64_t code) {
    if (known_.empty()) return look_up(code);
    std::uint64_t& found = known_[code];
    if (found == unknown) found = look_up(code);
    return found;
  }

 private:
  std::uint64_t look_up(std::uint64_t code) const {
    return code == from_.null_code ? absent : to_.code_of(from_.value_of(code)).value_or(absent);
  }
  const store::Column& from_;
  const store::Column& to_;
  std::vector<std::uint64_t> known_;
};

// Numbers pairs of codes, step by step, so that keys of any number of columns become one number: the first two columns'
// codes, then that number and the third column's, and so on.
class Pairs {
 public:
  std::uint64_t add(std::uint64_t a, std::uint64_t b) {
    return numbers_.try_emplace({a, b}, numbers_.size()).first->second;
  }
  std::uint64_t find(std::uint64_t a, std::uint64_t b) const {
    const auto at = numbers_.find({a, b});
    return at == numbers_.end() ? absent : at->second;
  }

 private:
  boost::unordered_flat_map<std::pair<std::uint64_t, std::uint64_t>, std::uint64_t> numbers_;
};

// The key of each row of the one side as one number; `absent` where a part is null.
std::vector<std::uint64_t> keys_of(std::span<const store::Column* const> to, std::vector<Pairs>& pairs) {
  std::vector<std::uint64_t> keys = to[0]->codes.decoded();
  for (std::uint64_t& key : keys) key = key == to[0]->null_code ? absent : key;
  for (std::size_t c = 1; c < to.size(); ++c) {
    const auto codes = to[c]->codes.decoded();
    for (std::size_t row = 0; row < keys.size(); ++row) {
      const bool none = keys[row] == absent || codes[row] == to[c]->null_code;
      keys[row] = none ? absent : pairs[c - 1].add(keys[row], codes[row]);
    }
  }
  return keys;
}

}  // namespace

std::optional<RepeatedKey> repeated_key(std::span<const store::Column* const> to) {
  if (to.size() == 1 && to[0]->distinct + to[0]->nulls == to[0]->rows) return std::nullopt;
  std::optional<RepeatedKey> repeated;
  std::vector<Pairs> pairs(to.size() - 1);
  const std::vector<std::uint64_t> keys = keys_of(to, pairs);
  boost::unordered_flat_map<std::uint64_t, std::uint64_t> first;
  for (std::uint64_t row = 0; row < keys.size(); ++row) {
    if (keys[row] == absent) continue;
    const auto [at, fresh] = first.try_emplace(keys[row], row);
    if (fresh) continue;
    if (!repeated) repeated = RepeatedKey{row, at->second, 0};
    ++repeated->rows;
  }
  return repeated;
}

namespace {

// The rows of the one side by their keys, the first where a key stands several times.
class RowsByKey {
 public:
  explicit RowsByKey(const std::vector<std::uint64_t>& keys) {
    std::uint64_t largest = 0;
    for (const std::uint64_t key : keys) largest = std::max(largest, key == absent ? 0 : key);
    const bool dense = largest < 4 * keys.size() + 1024;
    if (dense) by_number_.assign(largest + 1, absent);
    for (std::uint64_t row = 0; row < keys.size(); ++row) {
      if (keys[row] == absent) continue;
      if (!dense) {
        by_hash_.try_emplace(keys[row], row);
      } else if (by_number_[keys[row]] == absent) {
        by_number_[keys[row]] = row;
      }
    }
  }
  // `absent` if no row has the key.
  std::uint64_t find(std::uint64_t key) const {
    if (key == absent) return absent;
    if (by_hash_.empty()) return key < by_number_.size() ? by_number_[key] : absent;
    const auto at = by_hash_.find(key);
    return at == by_hash_.end() ? absent : at->second;
  }

 private:
  std::vector<std::uint64_t> by_number_;  // where keys are few enough to be numbers in it
  boost::unordered_flat_map<std::uint64_t, std::uint64_t> by_hash_;
};

// Where there are not many more codes than rows, each is looked up once, and its row stands in an array.
store::Codes by_code(const store::Column& from, const store::Column& to, const RowsByKey& by_key,
                     std::uint64_t& unmatched) {
  constexpr std::uint32_t not_yet = std::numeric_limits<std::uint32_t>::max();
  const auto none = static_cast<std::uint32_t>(to.rows);
  base::LargeVector<std::uint32_t> row_of(from.null_code + 1, not_yet);
  row_of[from.null_code] = none;
  store::Codes::Encoder encoder(from.rows, to.rows);
  std::vector<std::uint64_t> rows(store::block_rows);
  for (std::size_t block = 0; block < from.codes.blocks(); ++block) {
    rows.resize(from.codes.rows_in_block(block));
    from.codes.decode_block(block, rows.data());
    for (std::uint64_t& row : rows) {
      std::uint32_t& known = row_of[row];
      if (known == not_yet) {
        const auto key = to.code_of(from.value_of(row));
        const std::uint64_t found = key ? by_key.find(*key) : absent;
        known = found == absent ? none : static_cast<std::uint32_t>(found);
      }
      row = known;
      unmatched += known == none ? 1 : 0;
    }
    encoder.add(rows);
  }
  return encoder.finish();
}

}  // namespace

store::StoredLink resolve_link(std::span<const store::Column* const> from, std::span<const store::Column* const> to) {
  const std::uint64_t one_rows = to[0]->rows;
  store::StoredLink link;
  link.no_row = one_rows;
  std::vector<Pairs> pairs(to.size() - 1);
  const RowsByKey by_key(keys_of(to, pairs));
  constexpr std::uint64_t most_rows = std::numeric_limits<std::uint32_t>::max() - 1;
  if (from.size() == 1 && from[0]->null_code < 4 * from[0]->rows + 1024 && one_rows < most_rows) {
    link.rows = by_code(*from[0], *to[0], by_key, link.unmatched);
    link.encoding = link.rows.describe();
    return link;
  }
  // The same steps over the many side, in the codes of the one side.
  std::vector<std::uint64_t> rows = from[0]->codes.decoded();
  Translation translate(*from[0], *to[0]);
  for (std::uint64_t& row : rows) row = translate(row);
  for (std::size_t c = 1; c < from.size(); ++c) {
    const auto codes = from[c]->codes.decoded();
    Translation next(*from[c], *to[c]);
    for (std::size_t i = 0; i < rows.size(); ++i)
      rows[i] = rows[i] == absent ? absent : pairs[c - 1].find(rows[i], next(codes[i]));
  }
  for (std::uint64_t& row : rows) {
    const std::uint64_t found = by_key.find(row);
    row = found == absent ? one_rows : found;
    link.unmatched += found == absent ? 1 : 0;
  }
  link.rows = store::Codes::encode(rows);
  link.encoding = link.rows.describe();
  return link;
}

void mark_rows(const store::StoredLink& link, std::vector<std::uint8_t>& marks) {
  std::vector<std::uint64_t> rows(store::block_rows);
  for (std::size_t block = 0; block < link.rows.blocks(); ++block) {
    link.rows.decode_block(block, rows.data());
    for (std::size_t i = 0; i < link.rows.rows_in_block(block); ++i) {
      if (rows[i] != link.no_row) marks[rows[i]] = 1;
    }
  }
}

}  // namespace juniper::loading
