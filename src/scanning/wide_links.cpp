#include "scanning/wide_links.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>

namespace juniper::scanning {

namespace {

using Pairs = std::vector<std::pair<std::size_t, std::size_t>>;

// Codes of several columns as one number; nothing where that does not fit 64 bits.
class CombinedCodes {
 public:
  explicit CombinedCodes(const std::vector<const store::Column*>& columns) {
    std::uint64_t all = 1;
    for (const store::Column* column : columns) {
      sizes_.push_back(column->null_code + 1);
      fits_ = fits_ && sizes_.back() != 0 && !__builtin_mul_overflow(all, sizes_.back(), &all);
    }
  }
  bool fits() const { return fits_; }
  void add(std::uint64_t& number, std::size_t column, std::uint64_t code) const {
    number = number * sizes_[column] + code;
  }

 private:
  std::vector<std::uint64_t> sizes_;
  bool fits_ = true;
};

// The codes of the one side that each row of a column has; store::no_code where its value is not there, or null.
std::vector<std::uint64_t> codes_there(const store::Column& many, const store::Column& one) {
  std::vector<std::uint64_t> codes = many.codes.decoded();
  boost::unordered_flat_map<std::uint64_t, std::uint64_t> known;
  for (std::uint64_t& code : codes) {
    const auto [at, is_new] = known.try_emplace(code, store::no_code);
    if (is_new && (many.nulls == 0 || code != many.null_code))
      at->second = one.code_of(many.value_of(code)).value_or(store::no_code);
    code = at->second;
  }
  return codes;
}

std::optional<WideLink> try_columns(const FoundTable& from, const FoundTable& to, const Pairs& pairs) {
  std::vector<const store::Column*> ones;
  for (const auto& [many, one] : pairs) ones.push_back(&to.columns[one].data);
  const CombinedCodes combined(ones);
  if (!combined.fits()) return std::nullopt;
  std::vector<std::uint64_t> keys(to.rows);
  for (std::size_t i = 0; i < ones.size(); ++i) {
    const std::vector<std::uint64_t> codes = ones[i]->codes.decoded();
    for (std::size_t row = 0; row < keys.size(); ++row) combined.add(keys[row], i, codes[row]);
  }
  std::sort(keys.begin(), keys.end());
  if (std::adjacent_find(keys.begin(), keys.end()) != keys.end()) return std::nullopt;
  WideLink link{pairs, 0, 0};
  std::vector<std::uint64_t> numbers(from.rows);
  std::vector<std::uint8_t> is_null(from.rows);
  std::vector<std::uint8_t> is_there(from.rows, 1);
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const store::Column& many = from.columns[pairs[i].first].data;
    const std::vector<std::uint64_t> codes = codes_there(many, *ones[i]);
    for (std::size_t row = 0; row < numbers.size(); ++row) {
      if (codes[row] == store::no_code) {
        is_there[row] = 0;
        if (many.nulls != 0 && many.codes.at(row) == many.null_code) is_null[row] = 1;
      } else {
        combined.add(numbers[row], i, codes[row]);
      }
    }
  }
  for (std::size_t row = 0; row < numbers.size(); ++row) {
    link.keys += is_null[row] == 0 ? 1 : 0;
    link.matched += is_there[row] != 0 && std::binary_search(keys.begin(), keys.end(), numbers[row]) ? 1 : 0;
  }
  return link.matched * 2 >= link.keys && link.matched > 0 ? std::optional(link) : std::nullopt;
}

}  // namespace

std::optional<WideLink> find_wide_link(const FoundTable& from, const FoundTable& to) {
  Pairs shared;
  for (std::size_t c = 0; c < from.columns.size(); ++c) {
    for (std::size_t d = 0; d < to.columns.size(); ++d) {
      const store::Column& many = from.columns[c].data;
      const store::Column& one = to.columns[d].data;
      const bool could_be =
          one.nulls == 0 && one.distinct > 1 && one.type == many.type && one.layout != store::Layout::bits;
      if (from.columns[c].name == to.columns[d].name && could_be) shared.emplace_back(c, d);
    }
  }
  constexpr std::size_t most_shared = 8;
  if (to.rows == 0 || shared.size() > most_shared) return std::nullopt;
  for (std::size_t a = 0; a < shared.size(); ++a) {
    for (std::size_t b = a + 1; b < shared.size(); ++b) {
      if (auto link = try_columns(from, to, {shared[a], shared[b]})) return link;
    }
  }
  for (std::size_t a = 0; a < shared.size(); ++a) {
    for (std::size_t b = a + 1; b < shared.size(); ++b) {
      for (std::size_t c = b + 1; c < shared.size(); ++c) {
        if (auto link = try_columns(from, to, {shared[a], shared[b], shared[c]})) return link;
      }
    }
  }
  return std::nullopt;
}

}  // namespace juniper::scanning
