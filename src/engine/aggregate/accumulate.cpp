#include "engine/aggregate/accumulate.h"

#include <algorithm>
#include <cassert>
#include <cmath>
#include <optional>

#include "base/exact.h"
#include "engine/aggregate/accumulate_parts.h"
#include "engine/aggregate/grouped.h"
#include "engine/aggregate/moments.h"

namespace juniper::engine {

namespace {

using language::Aggregate;

class Count final : public Grouped<Count, std::uint64_t> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    if (inputs.empty()) {
      add_rows(added);
    } else {
      each_value(added, *inputs[0], [](std::uint64_t& count, std::uint32_t, GroupIndex) { ++count; });
    }
  }
  std::uint64_t rows_of(GroupIndex group) const override { return groups_[group]; }
  Repr repr() const override { return Repr::narrow; }
  void merge_group(std::uint64_t& into, const std::uint64_t& from, GroupIndex) { into += from; }
  void finish(const std::uint64_t& count, Vector& out, std::size_t row) const {
    out.narrow[row] = static_cast<std::int64_t>(count);
  }

 private:
  void add_rows(const Added& added) {
    if (added.count == 0) return;
    if (added.one_group) {
      groups_[added.groups[0]] += added.count;
    } else if (added.rows_of_group != nullptr) {
      for (std::size_t g = 0; g < groups_.size(); ++g) groups_[g] += added.rows_of_group[g];
    } else {
      for (std::size_t i = 0; i < added.count; ++i) ++groups_[added.groups[i]];
    }
  }
};

// sum and avg of exact numbers. Only the final sum must fit: values of 128 bits may pass the end on the way, so the sum
// wraps around and its number of wraps is kept.
struct WideSum {
  int128 sum = 0;
  std::int64_t wraps = 0;
  std::uint64_t count = 0;
};

class SumExact final : public Grouped<SumExact, WideSum> {
 public:
  SumExact(Type type, bool average) : type_(type), average_(average) {}

  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector* const values = inputs[0];
    if (values->repr == Repr::narrow) {
      // 2^63 values of 64 bits fit 128 bits: no wrap can happen.
      each_value(added, *values, [&](WideSum& group, std::uint32_t row, GroupIndex) {
        group.sum += values->narrow[row];
        ++group.count;
      });
    } else {
      each_value(added, *values, [&](WideSum& group, std::uint32_t row, GroupIndex) {
        wrapping_add(group, values->wide[row]);
        ++group.count;
      });
    }
  }
  Repr repr() const override { return average_ ? Repr::real : Repr::wide; }
  void merge_group(WideSum& into, const WideSum& from, GroupIndex) {
    wrapping_add(into, from.sum);
    into.wraps += from.wraps;
    into.count += from.count;
  }
  void finish(const WideSum& group, Vector& out, std::size_t row) const {
    finish_sum(group.sum, group.wraps == 0, group.count, type_, average_, out, row);
  }

 private:
  static void wrapping_add(WideSum& group, int128 value) {
    if (__builtin_add_overflow(group.sum, value, &group.sum)) group.wraps += value > 0 ? 1 : -1;
  }

  Type type_;
  bool average_;
};

struct Sum64 {
  std::int64_t sum = 0;
  std::uint64_t count = 0;
};

class NarrowSum final : public Grouped<NarrowSum, Sum64> {
 public:
  NarrowSum(Type type, bool average) : type_(type), average_(average) {}

  void add(const Added& added, Accumulator::Inputs inputs) override {
    const std::int64_t* const values = inputs[0]->narrow.data();
    if (inputs[0]->all_values && added.rows_of_group != nullptr) {
      add_to_few(
          added, [&](std::size_t i) { return static_cast<std::uint64_t>(values[i]); },
          [](Sum64& group, std::uint64_t sum) { group.sum += static_cast<std::int64_t>(sum); });
      for (std::size_t g = 0; g < groups_.size(); ++g) groups_[g].count += added.rows_of_group[g];
      return;
    }
    each_value(added, *inputs[0], [&](Sum64& group, std::uint32_t row, GroupIndex) {
      group.sum += values[row];
      ++group.count;
    });
  }
  Repr repr() const override { return average_ ? Repr::real : Repr::wide; }
  void merge_group(Sum64& into, const Sum64& from, GroupIndex) {
    into.sum += from.sum;
    into.count += from.count;
  }
  void finish(const Sum64& group, Vector& out, std::size_t row) const {
    finish_sum(group.sum, true, group.count, type_, average_, out, row);
  }

 private:
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

class SumReal final : public Grouped<SumReal, RealSum> {
 public:
  explicit SumReal(bool average) : average_(average) {}

  bool is_ordered() const override { return true; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector* const values = inputs[0];
    each_value(added, *values, [&](RealSum& group, std::uint32_t row, GroupIndex) {
      group.add(values->real[row]);
      ++group.count;
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(RealSum& into, const RealSum& from, GroupIndex) {
    into.add(from.sum);
    into.add(from.rest);
    into.count += from.count;
  }
  void finish(const RealSum& group, Vector& out, std::size_t row) const {
    const double sum = group.sum + group.rest;
    if (group.count == 0) {
      out.state[row] = State::null;
    } else if (!std::isfinite(sum)) {
      out.state[row] = State::null;  // as all that leaves the finite numbers
    } else {
      out.real[row] = average_ ? sum / static_cast<double>(group.count) : sum;
    }
  }

 private:
  bool average_;
};

class Exists final : public Grouped<Exists, std::uint8_t> {
 public:
  void add(const Added& added, Inputs) override {
    for (std::size_t i = 0; i < added.count; ++i) groups_[added.group(i)] = 1;
  }
  Repr repr() const override { return Repr::narrow; }
  void merge_group(std::uint8_t& into, const std::uint8_t& from, GroupIndex) {
    into = static_cast<std::uint8_t>(into | from);
  }
  void finish(const std::uint8_t& any, Vector& out, std::size_t row) const { out.narrow[row] = any; }
};

// A product of integers. Its magnitude never shrinks but to zero, so that what left 128 bits can't come back.
struct ExactProduct {
  int128 product = 1;
  bool overflow = false;
  bool zero = false;
  bool any = false;

  void multiply(const ExactProduct& by) {
    if (!by.any) return;
    any = true;
    zero = zero || by.zero;
    overflow = overflow || by.overflow || __builtin_mul_overflow(product, by.product, &product);
  }
};

class ProductExact final : public Grouped<ProductExact, ExactProduct> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector& values = *inputs[0];
    each_value(added, values, [&](ExactProduct& group, std::uint32_t row, GroupIndex) {
      const int128 value = values.repr == Repr::narrow ? values.narrow[row] : values.wide[row];
      group.multiply({value == 0 ? 1 : value, false, value == 0, true});
    });
  }
  Repr repr() const override { return Repr::wide; }
  void merge_group(ExactProduct& into, const ExactProduct& from, GroupIndex) { into.multiply(from); }
  void finish(const ExactProduct& group, Vector& out, std::size_t row) const {
    out.wide[row] = group.zero ? 0 : group.product;
    if (!group.any) {
      out.state[row] = State::null;
    } else if (!group.zero && (group.overflow || !base::fits_int64(group.product))) {
      out.state[row] = State::overflow;
    }
  }
};

struct RealProduct {
  double product = 1;
  bool any = false;
};

class ProductReal final : public Grouped<ProductReal, RealProduct> {
 public:
  bool is_ordered() const override { return true; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](RealProduct& group, std::uint32_t row, GroupIndex) {
      group.product *= inputs[0]->real[row];
      group.any = true;
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(RealProduct& into, const RealProduct& from, GroupIndex) {
    into.product *= from.product;
    into.any = into.any || from.any;
  }
  void finish(const RealProduct& group, Vector& out, std::size_t row) const {
    if (!group.any) {
      out.state[row] = State::null;
    } else if (!std::isfinite(group.product)) {
      out.state[row] = State::null;
    } else {
      out.real[row] = group.product == 0 ? 0 : group.product;
    }
  }
};

class Spread final : public Grouped<Spread, Moments> {
 public:
  explicit Spread(Aggregate kind) : kind_(kind) {}
  bool is_ordered() const override { return true; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0],
               [&](Moments& group, std::uint32_t row, GroupIndex) { group.add(inputs[0]->real[row]); });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(Moments& into, const Moments& from, GroupIndex) { into.add(from); }
  void finish(const Moments& group, Vector& out, std::size_t row) const { group.finish(kind_, out, row); }

 private:
  Aggregate kind_;
};

// The value at a fraction of the way through the sorted values, between two of them linearly.
class Quantile final : public Grouped<Quantile, std::vector<double>> {
 public:
  explicit Quantile(double fraction) : fraction_(fraction) {}
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](std::vector<double>& group, std::uint32_t row, GroupIndex) {
      group.push_back(inputs[0]->real[row]);
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(std::vector<double>& into, const std::vector<double>& from, GroupIndex) {
    into.insert(into.end(), from.begin(), from.end());
  }
  void finish(const std::vector<double>& group, Vector& out, std::size_t row) const {
    if (group.empty()) {
      out.state[row] = State::null;
      return;
    }
    std::vector<double> values = group;
    const double position = fraction_ * static_cast<double>(values.size() - 1);
    const auto low = static_cast<std::ptrdiff_t>(position);
    std::nth_element(values.begin(), values.begin() + low, values.end());
    const double below = values[static_cast<std::size_t>(low)];
    const double rest = position - static_cast<double>(low);
    const double above = rest == 0 ? below : *std::min_element(values.begin() + low + 1, values.end());
    out.real[row] = std::lerp(below, above, rest);
    if (out.real[row] == 0) out.real[row] = 0;
  }

 private:
  double fraction_;
};

// The value of a column when it is the only one. Null counts as one.
struct OnlyValue {
  std::optional<Value> value;
  bool several = false;

  void add(const Value& other) {
    if (!value) {
      value = other;
    } else if (compare(*value, other) != 0) {
      several = true;
    }
  }
};

class Only final : public Grouped<Only, OnlyValue> {
 public:
  explicit Only(Repr repr) : repr_(repr) {}
  bool is_ordered() const override { return repr_ == Repr::real; }  // as for extremes
  void add(const Added& added, Accumulator::Inputs inputs) override {
    for (std::size_t i = 0; i < added.count; ++i) {
      OnlyValue& group = groups_[added.group(i)];
      if (!group.several) group.add(inputs[0]->value_at(added.row(i)));
    }
  }
  Repr repr() const override { return repr_; }
  void merge_group(OnlyValue& into, const OnlyValue& from, GroupIndex) {
    if (from.value) into.add(*from.value);
    into.several = into.several || from.several;
  }
  void finish(const OnlyValue& group, Vector& out, std::size_t row) const {
    out.set(row, group.value && !group.several ? *group.value : Value());
  }

 private:
  Repr repr_;
};

}  // namespace

std::uint64_t Accumulator::rows_of(GroupIndex) const {
  assert(false);
  return 0;
}
void Accumulator::add(const Added&, Inputs) {
  assert(false);
}
void Accumulator::add_codes(const Added&, const std::uint32_t*) {
  assert(false);
}
void Accumulator::merge_pairs(const Accumulator& other, std::span<const GroupIndex> from,
                              std::span<const GroupIndex> into) {
  for (std::size_t i = 0; i < from.size(); ++i) merge_one(into[i], other, from[i]);
}

void Accumulator::merge_one(GroupIndex, const Accumulator&, GroupIndex) {
  assert(false);
}
void Accumulator::keep(std::span<const GroupIndex>) {
  assert(false);
}

Vector Accumulator::result(std::span<const GroupIndex> at) const {
  Vector out;
  out.reset(repr(), at.size());
  put_all(at, out);
  return out;
}

void Accumulator::put_all(std::span<const GroupIndex> at, Vector& out) const {
  for (std::size_t i = 0; i < at.size(); ++i) put(at[i], out, i);
}

namespace {

class RowsOf final : public Accumulator {
 public:
  explicit RowsOf(const Accumulator& other) : other_(other) {}
  void grow(std::size_t count) override { groups_ = std::max(groups_, count); }
  void add(const Added&, Inputs) override {}
  void poison(GroupIndex) override { assert(false); }
  void merge(const Accumulator&, std::span<const GroupIndex>) override {}
  bool can_keep() const override { return true; }
  void keep(std::span<const GroupIndex> groups) override { groups_ = groups.size(); }
  Repr repr() const override { return Repr::narrow; }
  void put(GroupIndex group, Vector& out, std::size_t row) const override {
    out.narrow[row] = group < groups_ ? static_cast<std::int64_t>(other_.rows_of(group)) : 0;
  }

 private:
  const Accumulator& other_;
  std::size_t groups_ = 0;
};

}  // namespace

std::unique_ptr<Accumulator> make_row_count() {
  return std::make_unique<Count>();
}

std::unique_ptr<Accumulator> make_rows_of(const Accumulator& other) {
  return std::make_unique<RowsOf>(other);
}

std::unique_ptr<Accumulator> make_narrow_sum(const language::Node& aggregate) {
  return std::make_unique<NarrowSum>(aggregate.children[0]->type, aggregate.aggregate == Aggregate::avg);
}

std::unique_ptr<Accumulator> make_accumulator(const language::Node& aggregate, std::span<const Repr> inputs,
                                              Merging merging, std::span<const OrderKey> order) {
  const Repr repr = inputs.empty() ? Repr::narrow : inputs[0];
  const bool average = aggregate.aggregate == Aggregate::avg;
  switch (aggregate.aggregate) {
    case Aggregate::row_count:
    case Aggregate::count:
      return std::make_unique<Count>();
    case Aggregate::exists:
      return std::make_unique<Exists>();
    case Aggregate::count_distinct:
      return make_count_distinct(repr, merging);
    case Aggregate::min:
    case Aggregate::every:
      return make_extreme(repr, true);
    case Aggregate::max:
    case Aggregate::any:
      return make_extreme(repr, false);
    case Aggregate::sum:
    case Aggregate::avg:
      if (repr == Repr::real) return std::make_unique<SumReal>(average);
      return std::make_unique<SumExact>(aggregate.children[0]->type, average);
    case Aggregate::product:
      if (repr == Repr::real) return std::make_unique<ProductReal>();
      return std::make_unique<ProductExact>();
    case Aggregate::median:
      return std::make_unique<Quantile>(0.5);
    case Aggregate::quantile:
      return std::make_unique<Quantile>(aggregate.literal.real());
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
      return std::make_unique<Spread>(aggregate.aggregate);
    case Aggregate::only:
      return std::make_unique<Only>(repr);
    case Aggregate::first:
    case Aggregate::last:
      return make_edge(repr, aggregate.aggregate == Aggregate::first, order);
    case Aggregate::list:
      return make_list(aggregate.literal.text(), order);
    case Aggregate::rank:
      break;  // evaluated as a count, see Evaluator::rank
  }
  return nullptr;
}

}  // namespace juniper::engine
