#include "engine/aggregate/code_numbers.h"

#include <cmath>
#include <limits>

#include "base/passes.h"
#include "engine/aggregate/grouped.h"

namespace juniper::engine {

namespace {

bool has_narrow_codes(const store::Column& column) {
  return column.null_code <= std::numeric_limits<std::uint32_t>::max();
}

struct CodeTotal {
  std::uint64_t sum = 0;
  std::uint64_t count = 0;
};

// Fewer than 2^31 rows of codes below 2^32 sum up to less than 2^63.
class CodeSum final : public Grouped<CodeSum, CodeTotal> {
 public:
  CodeSum(const store::Column& column, Type type, bool average)
      : null_code_(static_cast<std::uint32_t>(column.null_code)),
        has_nulls_(column.nulls != 0),
        base_(column.base),
        step_(column.step),
        type_(type),
        average_(average) {}

  void add_codes(const Added& added, const std::uint32_t* codes) override {
    if (has_nulls_) {
      each_row(added, [&](CodeTotal& group, std::uint32_t row, GroupIndex) {
        const std::uint64_t valid = codes[row] != null_code_ ? 1 : 0;
        group.sum += valid * codes[row];
        group.count += valid;
      });
    } else if (added.count != 0 && added.one_group && added.rows == nullptr) {
      CodeTotal& group = groups_[added.groups[0]];
      group.sum += base::sum_of({codes + added.first, added.count});
      group.count += added.count;
    } else if (added.rows_of_group != nullptr) {
      add_to_few(
          added, [&](std::size_t i) { return codes[i]; },
          [](CodeTotal& group, std::uint64_t sum) { group.sum += sum; });
      for (std::size_t g = 0; g < groups_.size(); ++g) groups_[g].count += added.rows_of_group[g];
    } else {
      each_row(added, [&](CodeTotal& group, std::uint32_t row, GroupIndex) {
        group.sum += codes[row];
        ++group.count;
      });
    }
  }
  Repr repr() const override { return average_ ? Repr::real : Repr::wide; }
  bool counts_rows() const override { return !has_nulls_; }
  std::uint64_t rows_of(GroupIndex group) const override { return groups_[group].count; }
  void merge_group(CodeTotal& into, const CodeTotal& from, GroupIndex) {
    into.sum += from.sum;
    into.count += from.count;
  }
  void finish(const CodeTotal& group, Vector& out, std::size_t row) const {
    const int128 sum =
        int128{base_} * static_cast<int128>(group.count) + static_cast<int128>(group.sum) * static_cast<int128>(step_);
    finish_sum(sum, true, group.count, type_, average_, out, row);
  }

 private:
  std::uint32_t null_code_;
  bool has_nulls_;
  std::int64_t base_;
  std::uint64_t step_;
  Type type_;
  bool average_;
};

struct CodeSquares {
  std::uint64_t sum = 0;
  std::uint64_t count = 0;
  base::uint128 squares = 0;
};

// With n codes c, n (n - 1) times their variance is n sum(c^2) - sum(c)^2. Fewer than 2^31 codes below 2^32 keep all of
// it within 127 bits, so that nothing is rounded before the end.
class CodeSpread final : public Grouped<CodeSpread, CodeSquares> {
 public:
  CodeSpread(const store::Column& column, Type type, language::Aggregate kind)
      : null_code_(static_cast<std::uint32_t>(column.null_code)),
        unit_(static_cast<double>(column.step) / static_cast<double>(base::power_of_ten(type.scale))),
        kind_(kind) {}

  void add_codes(const Added& added, const std::uint32_t* codes) override {
    each_row(added, [&](CodeSquares& group, std::uint32_t row, GroupIndex) {
      const std::uint64_t valid = codes[row] != null_code_ ? 1 : 0;
      const std::uint64_t code = valid * codes[row];
      group.sum += code;
      group.count += valid;
      group.squares += code * code;
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(CodeSquares& into, const CodeSquares& from, GroupIndex) {
    into.sum += from.sum;
    into.count += from.count;
    into.squares += from.squares;
  }
  void finish(const CodeSquares& group, Vector& out, std::size_t row) const {
    using language::Aggregate;
    const bool sample = kind_ == Aggregate::stddev || kind_ == Aggregate::variance;
    const std::uint64_t divisor = group.count - (sample && group.count > 0 ? 1 : 0);
    if (divisor < 1) {
      out.state[row] = State::null;
      return;
    }
    using Wide = base::uint128;
    const Wide apart = Wide{group.count} * group.squares - Wide{group.sum} * group.sum;
    const double variance =
        static_cast<double>(apart) / (static_cast<double>(group.count) * static_cast<double>(divisor));
    const bool root = kind_ == Aggregate::stddev || kind_ == Aggregate::stddev_pop;
    out.real[row] = root ? std::sqrt(variance) * unit_ : variance * unit_ * unit_;
    if (!std::isfinite(out.real[row])) out.state[row] = State::null;
  }

 private:
  std::uint32_t null_code_;
  double unit_;
  language::Aggregate kind_;
};

// The smallest code, or one more than the largest: a group without any has the one, or the other, of no value.
template <bool least>
class CodeExtreme final : public Grouped<CodeExtreme<least>, std::uint32_t> {
 public:
  explicit CodeExtreme(const store::Column& column)
      : column_(column), null_code_(static_cast<std::uint32_t>(column.null_code)) {}

  void grow(std::size_t count) override {
    if (count <= this->groups_.size()) return;
    this->groups_.resize(count, least ? null_code_ : 0);
    this->poisoned_.resize(count, 0);
  }
  void add_codes(const Added& added, const std::uint32_t* codes) override {
    // The extreme changes seldom: what is not written, the next row of the group does not wait for.
    this->each_row(added, [codes, null_code = null_code_](std::uint32_t& group, std::uint32_t row, GroupIndex) {
      if constexpr (least) {
        if (codes[row] < group) group = codes[row];
      } else {
        const std::uint32_t place = codes[row] == null_code ? 0 : codes[row] + 1;
        if (place > group) group = place;
      }
    });
  }
  Repr repr() const override {
    if (column_.type.kind == TypeKind::text) return Repr::text;
    return column_.type.kind == TypeKind::real ? Repr::real : Repr::narrow;
  }
  void put(GroupIndex group, Vector& out, std::size_t row) const override {
    if (group < this->groups_.size()) return CodeExtreme::Grouped::put(group, out, row);
    out.state[row] = State::null;
  }
  void merge_group(std::uint32_t& into, const std::uint32_t& from, GroupIndex) {
    into = least ? std::min(into, from) : std::max(into, from);
  }
  void finish(const std::uint32_t& group, Vector& out, std::size_t row) const {
    if (group == (least ? null_code_ : 0)) {
      out.state[row] = State::null;
    } else {
      out.set(row, column_.value_of(least ? group : group - 1));
    }
  }

 private:
  const store::Column& column_;
  std::uint32_t null_code_;
};

// Counts of codes, a row of them for each group; or, where these would take much memory, the codes themselves.
class CodeQuantile final : public Accumulator {
 public:
  CodeQuantile(const store::Column& column, double fraction)
      : column_(column), fraction_(fraction), width_(static_cast<std::size_t>(column.null_code)) {}

  void grow(std::size_t count) override {
    if (count <= poisoned_.size()) return;
    poisoned_.resize(count, 0);
    if (!is_listed_ && count * width_ > most_counts) list();
    if (is_listed_) {
      lists_.resize(count);
    } else {
      counts_.resize(count * width_, 0);
    }
  }

  void add_codes(const Added& added, const std::uint32_t* codes) override {
    const auto has_value = [&](std::size_t i) { return codes[added.row(i)] < width_; };
    if (is_listed_) {
      for (std::size_t i = 0; i < added.count; ++i) {
        if (has_value(i)) lists_[added.group(i)].push_back(codes[added.row(i)]);
      }
      return;
    }
    std::uint32_t* const counts = counts_.data();
    const auto place = [&](std::size_t i) { return counts + added.group(i) * width_ + codes[added.row(i)]; };
    base::for_each_ahead(added.count, place, [&](std::size_t i) {
      if (has_value(i)) ++*place(i);
    });
  }

  void poison(GroupIndex group) override { poisoned_[group] = 1; }

  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    const auto& from = static_cast<const CodeQuantile&>(other);
    if (from.is_listed_ && !is_listed_) list();
    for (std::size_t g = 0; g < from.poisoned_.size(); ++g) {
      poisoned_[groups[g]] |= from.poisoned_[g];
      if (from.is_listed_) {
        lists_[groups[g]].insert(lists_[groups[g]].end(), from.lists_[g].begin(), from.lists_[g].end());
        continue;
      }
      const std::uint32_t* const counts = from.counts_.data() + g * width_;
      for (std::size_t code = 0; code < width_; ++code) {
        if (is_listed_) {
          lists_[groups[g]].insert(lists_[groups[g]].end(), counts[code], static_cast<std::uint32_t>(code));
        } else {
          counts_[groups[g] * width_ + code] += counts[code];
        }
      }
    }
  }

  Repr repr() const override { return Repr::real; }

  void put(GroupIndex group, Vector& out, std::size_t row) const override {
    if (group < poisoned_.size() && poisoned_[group] != 0) {
      out.state[row] = State::overflow;
      return;
    }
    const auto [low, high, rest] = group >= poisoned_.size() ? Place{} : is_listed_ ? listed(group) : counted(group);
    if (low >= width_) {
      out.state[row] = State::null;
      return;
    }
    const double below = value(low);
    const double above = rest == 0 ? below : value(high);
    out.real[row] = std::lerp(below, above, rest);
    if (out.real[row] == 0) out.real[row] = 0;
  }

 private:
  static constexpr std::size_t most_counts = std::size_t{1} << 23;  // 32 MB

  // The codes between which the value lies, and how far behind the first.
  struct Place {
    std::size_t low = std::numeric_limits<std::size_t>::max();
    std::size_t high = 0;
    double rest = 0;
  };

  double value(std::size_t code) const {
    return column_.type.kind == TypeKind::real ? column_.real_of(code)
                                               : base::to_real(column_.exact_of(code), column_.type.scale);
  }

  void list() {
    is_listed_ = true;
    lists_.resize(poisoned_.size());
    for (std::size_t i = 0; i < counts_.size(); ++i) {
      if (counts_[i] != 0)
        lists_[i / width_].insert(lists_[i / width_].end(), counts_[i], static_cast<std::uint32_t>(i % width_));
    }
    counts_ = {};
  }

  Place counted(GroupIndex group) const {
    const std::uint32_t* const counts = counts_.data() + group * width_;
    std::uint64_t total = 0;
    for (std::size_t code = 0; code < width_; ++code) total += counts[code];
    if (total == 0) return {};
    const double position = fraction_ * static_cast<double>(total - 1);
    const auto first = static_cast<std::uint64_t>(position);
    Place place;
    place.rest = position - static_cast<double>(first);
    std::size_t code = 0;
    std::uint64_t through = counts[0];
    while (through <= first) through += counts[++code];
    place.low = code;
    while (through <= std::min(first + 1, total - 1)) through += counts[++code];
    place.high = code;
    return place;
  }

  Place listed(GroupIndex group) const {
    std::vector<std::uint32_t> codes = lists_[group];
    if (codes.empty()) return {};
    const double position = fraction_ * static_cast<double>(codes.size() - 1);
    const auto first = static_cast<std::ptrdiff_t>(position);
    std::nth_element(codes.begin(), codes.begin() + first, codes.end());
    Place place{codes[static_cast<std::size_t>(first)], 0, position - static_cast<double>(first)};
    if (place.rest != 0) place.high = *std::min_element(codes.begin() + first + 1, codes.end());
    return place;
  }

  const store::Column& column_;
  double fraction_;
  std::size_t width_;  // codes other than that of null
  bool is_listed_ = false;
  base::GrowingVector<std::uint32_t> counts_;
  std::vector<std::vector<std::uint32_t>> lists_;
  std::vector<std::uint8_t> poisoned_;  // of each group
};

}  // namespace

bool sums_by_codes(const store::Column& column) {
  return column.type.is_exact_number() && column.layout == store::Layout::offset && has_narrow_codes(column) &&
         column.rows <= std::numeric_limits<std::int32_t>::max();
}

bool ranks_by_codes(const store::Column& column) {
  const bool is_number = column.type.is_exact_number() || column.type.kind == TypeKind::real;
  return is_number && column.layout != store::Layout::bits && has_narrow_codes(column);
}

std::unique_ptr<Accumulator> make_code_sum(const language::Node& aggregate, const store::Column& column) {
  return std::make_unique<CodeSum>(column, aggregate.children[0]->type,
                                   aggregate.aggregate == language::Aggregate::avg);
}

bool is_ordered_by_codes(const store::Column& column) {
  return column.layout != store::Layout::bits && has_narrow_codes(column);
}

std::unique_ptr<Accumulator> make_code_spread(const language::Node& aggregate, const store::Column& column) {
  return std::make_unique<CodeSpread>(column, column.type, aggregate.aggregate);
}

std::unique_ptr<Accumulator> make_code_extreme(const store::Column& column, bool least) {
  if (least) return std::make_unique<CodeExtreme<true>>(column);
  return std::make_unique<CodeExtreme<false>>(column);
}

std::unique_ptr<Accumulator> make_code_quantile(const store::Column& column, double fraction) {
  return std::make_unique<CodeQuantile>(column, fraction);
}

}  // namespace juniper::engine
