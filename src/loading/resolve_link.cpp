#include "loading/resolve_link.h"

#include <algorithm>

namespace juniper::loading {

namespace {

// Looks values of the many side up among the keys of the one side, by value: the two columns have codes of their own.
class Matcher {
 public:
  Matcher(const store::Column& from, const store::Column& to) : from_(from), to_(to) {
    for (std::uint64_t row = 0; row < to.rows; ++row) {
      if (const std::uint64_t code = to.codes.at(row); code != to.null_code) keys_.push_back({code, row});
    }
    std::sort(keys_.begin(), keys_.end(),
              [](const Key& a, const Key& b) { return a.code != b.code ? a.code < b.code : a.row < b.row; });
  }

  std::uint64_t row_of(std::uint64_t from_code) const {
    if (from_code == from_.null_code) return to_.rows;
    // Codes are ordered as values are, in every layout that a key can have.
    const auto at = std::partition_point(keys_.begin(), keys_.end(),
                                         [&](const Key& key) { return order(key.code, from_code) < 0; });
    return at != keys_.end() && order(at->code, from_code) == 0 ? at->row : to_.rows;
  }

 private:
  struct Key {
    std::uint64_t code;
    std::uint64_t row;
  };

  int order(std::uint64_t to_code, std::uint64_t from_code) const {
    const auto three_way = [](const auto& a, const auto& b) { return a < b ? -1 : (b < a ? 1 : 0); };
    if (to_.type.kind == TypeKind::text) return three_way(to_.text_of(to_code), from_.text_of(from_code));
    return three_way(to_.exact_of(to_code), from_.exact_of(from_code));
  }

  const store::Column& from_;
  const store::Column& to_;
  std::vector<Key> keys_;
};

}  // namespace

store::StoredLink resolve_link(const store::Column& from, const store::Column& to) {
  const Matcher matcher(from, to);
  store::StoredLink link;
  link.no_row = to.rows;
  std::vector<std::uint64_t> rows(from.rows);
  // Each distinct code is looked up once, where the codes are few enough to be remembered by number.
  constexpr std::uint64_t unknown = ~std::uint64_t{0};
  const bool few = from.null_code < 4 * from.rows + 1024;
  std::vector<std::uint64_t> known(few ? from.null_code + 1 : 0, unknown);
  std::vector<std::uint64_t> block(store::block_rows);
  for (std::size_t b = 0; b < from.codes.blocks(); ++b) {
    from.codes.decode_block(b, block.data());
    for (std::size_t i = 0; i < from.codes.rows_in_block(b); ++i) {
      std::uint64_t& row = rows[b * store::block_rows + i];
      if (!few) {
        row = matcher.row_of(block[i]);
        continue;
      }
      std::uint64_t& found = known[block[i]];
      if (found == unknown) found = matcher.row_of(block[i]);
      row = found;
    }
  }
  link.rows = store::Codes::encode(rows);
  return link;
}

}  // namespace juniper::loading
