#include "store/resolve_link.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <vector>

namespace juniper::store {

namespace {

constexpr std::uint64_t unknown = ~std::uint64_t{0};
constexpr std::uint64_t absent = unknown - 1;

// The codes that a column's values have in another column. Each distinct code is looked up once, where the codes are
// few enough to be remembered by number.
class Translation {
 public:
  Translation(const Column& from, const Column& to) : from_(from), to_(to) {
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
  const Column& from_;
  const Column& to_;
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
std::vector<std::uint64_t> keys_of(std::span<const Column* const> to, std::vector<Pairs>& pairs) {
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

std::optional<RepeatedKey> repeated_key(std::span<const Column* const> to) {
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

bool names_rows(const StoredTable& table, std::span<const std::uint32_t> columns) {
  std::vector<const Column*> key;
  for (const std::uint32_t column : columns) {
    if (!table.columns[column].broken.empty() || table.columns[column].data.nulls != 0) return false;
    key.push_back(&table.columns[column].data);
  }
  return !repeated_key(key);
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

// The row of the one side for a code of the many side's key, no_row where there is none.
class RowOfCode {
 public:
  RowOfCode(const Column& from, const Column& to, const RowsByKey& by_key, std::uint64_t no_row)
      : from_(from), to_(to), by_key_(by_key), no_row_(no_row) {}
  std::uint64_t operator()(std::uint64_t code) const {
    const auto key = code == from_.null_code ? std::nullopt : to_.code_of(from_.value_of(code));
    const std::uint64_t row = key ? by_key_.find(*key) : absent;
    return row == absent ? no_row_ : row;
  }

 private:
  const Column& from_;
  const Column& to_;
  const RowsByKey& by_key_;
  std::uint64_t no_row_;
};

// Calls take(codes) for each block of a column; what it makes of them is not looked at.
template <class Take>
void each_block(const Column& column, const Take& take) {
  std::vector<std::uint64_t> codes(block_rows);
  for (std::size_t block = 0; block < column.codes.blocks(); ++block) {
    codes.resize(column.codes.rows_in_block(block));
    column.codes.decode_block(block, codes.data());
    take(codes);
  }
}

// Rows whose code leads to none, null's among them.
std::uint64_t count_unmatched(const Column& from, const std::vector<std::uint64_t>& row_of, std::uint64_t none) {
  if (std::find(row_of.begin(), row_of.end(), none) == row_of.end()) return from.nulls;
  std::vector<std::uint8_t> without(row_of.size() + 1, 1);
  for (std::size_t code = 0; code < row_of.size(); ++code) without[code] = row_of[code] == none ? 1 : 0;
  std::uint64_t rows = 0;
  each_block(from, [&](const std::vector<std::uint64_t>& codes) {
    for (const std::uint64_t code : codes) rows += without[code];
  });
  return rows;
}

void resolve_by_code(const Column& from, const RowOfCode& row_of_code, StoredLink& link) {
  std::vector<std::uint64_t> row_of(from.null_code);
  bool are_rows = may_be_rows(from, link.no_row);
  for (std::uint64_t code = 0; code < from.null_code; ++code) {
    row_of[code] = row_of_code(code);
    are_rows = are_rows && row_of[code] == code;
  }
  link.unmatched = count_unmatched(from, row_of, link.no_row);
  link.form = are_rows ? LinkForm::codes_are_rows : LinkForm::by_code;
  if (!are_rows) link.rows = Codes::encode(row_of);
}

// Where there are not many more codes than rows, each that occurs is looked up once.
void resolve_by_row(const Column& from, const RowOfCode& row_of_code, StoredLink& link) {
  std::vector<std::uint64_t> row_of(from.null_code + 1, unknown);
  Codes::Encoder encoder(from.rows, link.no_row);
  each_block(from, [&](std::vector<std::uint64_t>& rows) {
    for (std::uint64_t& row : rows) {
      std::uint64_t& known = row_of[row];
      if (known == unknown) known = row_of_code(row);
      row = known;
      link.unmatched += known == link.no_row ? 1 : 0;
    }
    encoder.add(rows);
  });
  link.rows = encoder.finish();
}

std::string encoding_of(const StoredLink& link) {
  switch (link.form) {
    case LinkForm::by_row:
      return link.rows.describe();
    case LinkForm::by_code:
      return "by key, " + link.rows.describe();
    case LinkForm::codes_are_rows:
      return "by key";
  }
  return "";
}

}  // namespace

StoredLink resolve_link(std::span<const Column* const> from, std::span<const Column* const> to) {
  const std::uint64_t one_rows = to[0]->rows;
  StoredLink link;
  link.no_row = one_rows;
  std::vector<Pairs> pairs(to.size() - 1);
  const RowsByKey by_key(keys_of(to, pairs));
  if (from.size() == 1 && from[0]->null_code < 4 * from[0]->rows + 1024) {
    const RowOfCode row_of_code(*from[0], *to[0], by_key, link.no_row);
    if (leads_by_code(*from[0])) {
      resolve_by_code(*from[0], row_of_code, link);
    } else {
      resolve_by_row(*from[0], row_of_code, link);
    }
    link.encoding = encoding_of(link);
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
  link.rows = Codes::encode(rows);
  link.encoding = encoding_of(link);
  return link;
}

void mark_rows(LinkRows link, std::vector<std::uint8_t>& marks) {
  std::vector<std::uint64_t> rows(block_rows);
  for (std::size_t block = 0; block < link.blocks(); ++block) {
    link.decode_block(block, rows.data());
    for (std::size_t i = 0; i < link.rows_in_block(block); ++i) {
      if (rows[i] != link.no_row()) marks[rows[i]] = 1;
    }
  }
}

}  // namespace juniper::store
