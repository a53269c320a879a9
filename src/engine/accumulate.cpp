#include "engine/accumulate.h"

#include <xxhash.h>

#include <boost/unordered/unordered_flat_set.hpp>
#include <cmath>
#include <optional>

#include "base/exact.h"

namespace juniper::engine {

namespace {

using language::Aggregate;

// What all accumulators do alike: which groups are poisoned, and the frame of `result`.
template <class Group>
class Grouped : public Accumulator {
 public:
  void grow(std::size_t count) override {
    if (count > groups_.size()) {
      groups_.resize(count);
      poisoned_.resize(count, 0);
    }
  }
  void poison(GroupIndex group) override { poisoned_[group] = 1; }
  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    const auto& from = static_cast<const Grouped&>(other);
    for (std::size_t i = 0; i < from.groups_.size(); ++i) {
      poisoned_[groups[i]] = poisoned_[groups[i]] | from.poisoned_[i];
      merge_group(groups_[groups[i]], from.groups_[i], groups[i]);
    }
  }
  Vector result(std::span<const GroupIndex> at) const override {
    Vector out;
    out.reset(result_repr(), at.size());
    const Group none{};
    for (std::size_t i = 0; i < at.size(); ++i) {
      if (at[i] < groups_.size() && poisoned_[at[i]] != 0) {
        out.state[i] = State::overflow;
      } else {
        finish(at[i] < groups_.size() ? groups_[at[i]] : none, out, i);
      }
    }
    return out;
  }

 protected:
  virtual Repr result_repr() const = 0;
  virtual void merge_group(Group& into, const Group& from, GroupIndex group) = 0;
  virtual void finish(const Group& group, Vector& out, std::size_t row) const = 0;

  // Calls take(group, row) for each row that holds a value.
  template <class Take>
  void each_value(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector& values,
                  const Take& take) {
    for (std::size_t i = 0; i < rows.size(); ++i) {
      const State state = values.state[rows[i]];
      if (state == State::value) {
        take(groups_[groups[i]], rows[i], groups[i]);
      } else if (state == State::overflow) {
        poisoned_[groups[i]] = 1;
      }
    }
  }

  std::vector<Group> groups_;
  std::vector<std::uint8_t> poisoned_;
};

class Count final : public Grouped<std::uint64_t> {
 public:
  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) override {
    if (values == nullptr) {
      for (const GroupIndex group : groups) ++groups_[group];
    } else {
      each_value(rows, groups, *values, [](std::uint64_t& count, std::uint32_t, GroupIndex) { ++count; });
    }
  }

 private:
  Repr result_repr() const override { return Repr::narrow; }
  void merge_group(std::uint64_t& into, const std::uint64_t& from, GroupIndex) override { into += from; }
  void finish(const std::uint64_t& count, Vector& out, std::size_t row) const override {
    out.narrow[row] = static_cast<std::int64_t>(count);
  }
};

// sum and avg of exact numbers. Only the final sum must fit: values of 128 bits may pass the end on the way, so the sum
// wraps around and its number of wraps is kept.
struct WideSum {
  int128 sum = 0;
  std::int64_t wraps = 0;
  std::uint64_t count = 0;
};

class SumExact final : public Grouped<WideSum> {
 public:
  SumExact(Type type, bool average) : type_(type), average_(average) {}

  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) override {
    if (values->repr == Repr::narrow) {
      // 2^63 values of 64 bits fit 128 bits: no wrap can happen.
      each_value(rows, groups, *values, [&](WideSum& group, std::uint32_t row, GroupIndex) {
        group.sum += values->narrow[row];
        ++group.count;
      });
    } else {
      each_value(rows, groups, *values, [&](WideSum& group, std::uint32_t row, GroupIndex) {
        wrapping_add(group, values->wide[row]);
        ++group.count;
      });
    }
  }

 private:
  static void wrapping_add(WideSum& group, int128 value) {
    if (__builtin_add_overflow(group.sum, value, &group.sum)) group.wraps += value > 0 ? 1 : -1;
  }
  Repr result_repr() const override { return average_ ? Repr::real : Repr::wide; }
  void merge_group(WideSum& into, const WideSum& from, GroupIndex) override {
    wrapping_add(into, from.sum);
    into.wraps += from.wraps;
    into.count += from.count;
  }
  void finish(const WideSum& group, Vector& out, std::size_t row) const override {
    if (group.count == 0) {
      out.state[row] = State::null;
    } else if (group.wraps != 0 || (type_.kind == TypeKind::integer && !average_ && !base::fits_int64(group.sum))) {
      out.state[row] = State::overflow;
    } else if (!average_) {
      out.wide[row] = group.sum;
    } else {
      const int128 divisor = static_cast<int128>(group.count);
      int128 scaled = 0;
      out.real[row] = __builtin_mul_overflow(divisor, base::power_of_ten(type_.scale), &scaled)
                          ? base::to_real(group.sum, type_.scale) / static_cast<double>(group.count)
                          : static_cast<double>(group.sum) / static_cast<double>(scaled);
    }
  }

  Type type_;
  bool average_;
};

// sum and avg of reals, by Neumaier's compensated summation (A. Neumaier, Rundungsfehleranalyse einiger Verfahren zur
// Summation endlicher Summen, ZAMM 54, 1974).
struct RealSum {
  double sum = 0;
  double rest = 0;
  std::uint64_t count = 0;

  void add(double value) {
    const double total = sum + value;
    rest += std::abs(sum) >= std::abs(value) ? (sum - total) + value : (value - total) + sum;
    sum = total;
  }
};

class SumReal final : public Grouped<RealSum> {
 public:
  explicit SumReal(bool average) : average_(average) {}

  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) override {
    each_value(rows, groups, *values, [&](RealSum& group, std::uint32_t row, GroupIndex) {
      group.add(values->real[row]);
      ++group.count;
    });
  }

 private:
  Repr result_repr() const override { return Repr::real; }
  void merge_group(RealSum& into, const RealSum& from, GroupIndex) override {
    into.add(from.sum);
    into.add(from.rest);
    into.count += from.count;
  }
  void finish(const RealSum& group, Vector& out, std::size_t row) const override {
    const double sum = group.sum + group.rest;
    if (group.count == 0) {
      out.state[row] = State::null;
    } else if (!std::isfinite(sum)) {
      out.state[row] = State::overflow;
    } else {
      out.real[row] = average_ ? sum / static_cast<double>(group.count) : sum;
    }
  }

  bool average_;
};

template <class T>
class Extreme final : public Grouped<std::optional<T>> {
 public:
  Extreme(Repr repr, bool least) : repr_(repr), least_(least) {}

  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) override {
    using Seen = std::conditional_t<std::is_same_v<T, std::string>, std::string_view, T>;
    const auto& column = values->of<Seen>();
    this->each_value(rows, groups, *values, [&](std::optional<T>& best, std::uint32_t row, GroupIndex) {
      if (!best || (least_ ? column[row] < *best : *best < column[row])) best = T(column[row]);
    });
  }

 private:
  Repr result_repr() const override { return repr_; }
  void merge_group(std::optional<T>& into, const std::optional<T>& from, GroupIndex) override {
    if (from && (!into || (least_ ? *from < *into : *into < *from))) into = from;
  }
  void finish(const std::optional<T>& best, Vector& out, std::size_t row) const override {
    if (!best) {
      out.state[row] = State::null;
    } else if constexpr (std::is_same_v<T, std::string>) {
      out.text[row] = out.owned.emplace_back(*best);
    } else {
      out.of<T>()[row] = *best;
    }
  }

  Repr repr_;
  bool least_;
};

template <class T>
class CountDistinct final : public Grouped<std::uint64_t> {
 public:
  void add(std::span<const std::uint32_t> rows, std::span<const GroupIndex> groups, const Vector* values) override {
    using Seen = std::conditional_t<std::is_same_v<T, std::string>, std::string_view, T>;
    const auto& column = values->of<Seen>();
    each_value(rows, groups, *values, [&](std::uint64_t& count, std::uint32_t row, GroupIndex group) {
      if (seen_.emplace(group, T(column[row])).second) ++count;
    });
  }
  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    Grouped::merge(other, groups);
    for (const auto& [group, value] : static_cast<const CountDistinct&>(other).seen_) {
      if (seen_.emplace(groups[group], value).second) ++groups_[groups[group]];
    }
  }

 private:
  struct Hash {
    std::size_t operator()(const std::pair<GroupIndex, T>& key) const {
      if constexpr (std::is_same_v<T, std::string>) {
        return XXH3_64bits_withSeed(key.second.data(), key.second.size(), key.first);
      } else {
        return XXH3_64bits_withSeed(&key.second, sizeof(T), key.first);
      }
    }
  };
  Repr result_repr() const override { return Repr::narrow; }
  void merge_group(std::uint64_t&, const std::uint64_t&, GroupIndex) override {}  // `merge` counts what is new
  void finish(const std::uint64_t& count, Vector& out, std::size_t row) const override {
    out.narrow[row] = static_cast<std::int64_t>(count);
  }

  boost::unordered_flat_set<std::pair<GroupIndex, T>, Hash> seen_;
};

template <template <class> class Kind, class... Arguments>
std::unique_ptr<Accumulator> by_repr(Repr repr, Arguments... arguments) {
  switch (repr) {
    case Repr::narrow:
      return std::make_unique<Kind<std::int64_t>>(arguments...);
    case Repr::wide:
      return std::make_unique<Kind<int128>>(arguments...);
    case Repr::real:
      return std::make_unique<Kind<double>>(arguments...);
    case Repr::text:
      return std::make_unique<Kind<std::string>>(arguments...);
  }
  return nullptr;
}

}  // namespace

std::unique_ptr<Accumulator> make_accumulator(const language::Node& aggregate, Repr repr) {
  const bool average = aggregate.aggregate == Aggregate::avg;
  switch (aggregate.aggregate) {
    case Aggregate::row_count:
    case Aggregate::count:
      return std::make_unique<Count>();
    case Aggregate::count_distinct:
      return by_repr<CountDistinct>(repr);
    case Aggregate::min:
    case Aggregate::max:
      return by_repr<Extreme>(repr, repr, aggregate.aggregate == Aggregate::min);
    case Aggregate::sum:
    case Aggregate::avg:
      if (repr == Repr::real) return std::make_unique<SumReal>(average);
      return std::make_unique<SumExact>(aggregate.children[0]->type, average);
  }
  return nullptr;
}

}  // namespace juniper::engine
