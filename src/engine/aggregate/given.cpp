#include "engine/aggregate/given.h"

#include <cmath>
#include <optional>

#include "engine/aggregate/grouped.h"
#include "engine/aggregate/moments.h"

namespace juniper::engine {

namespace {

int128 exact_at(const Vector& values, std::size_t row) {
  return values.repr == Repr::wide ? values.wide[row] : values.narrow[row];
}

class GivenCount final : public Grouped<GivenCount, std::uint64_t> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](std::uint64_t& count, std::uint32_t row, GroupIndex) {
      count += static_cast<std::uint64_t>(exact_at(*inputs[0], row));
    });
  }
  std::uint64_t rows_of(GroupIndex group) const override { return groups_[group]; }
  Repr repr() const override { return Repr::narrow; }
  void merge_group(std::uint64_t& into, const std::uint64_t& from, GroupIndex) { into += from; }
  void finish(const std::uint64_t& count, Vector& out, std::size_t row) const {
    out.narrow[row] = static_cast<std::int64_t>(count);
  }
};

struct PartialAverage {
  int128 sum = 0;
  double real = 0;
  bool fits = true;
  std::uint64_t count = 0;
};

class GivenAverage final : public Grouped<GivenAverage, PartialAverage> {
 public:
  explicit GivenAverage(Type type) : type_(type) {}
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](PartialAverage& group, std::uint32_t row, GroupIndex) {
      PartialAverage part;
      part.count = static_cast<std::uint64_t>(exact_at(*inputs[1], row));
      if (type_.kind == TypeKind::real) {
        part.real = inputs[0]->real[row];
      } else {
        part.sum = exact_at(*inputs[0], row);
      }
      merge_group(group, part, 0);
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(PartialAverage& into, const PartialAverage& from, GroupIndex) const {
    into.real += from.real;
    into.fits = into.fits && from.fits && !__builtin_add_overflow(into.sum, from.sum, &into.sum);
    into.count += from.count;
  }
  void finish(const PartialAverage& group, Vector& out, std::size_t row) const {
    if (type_.kind != TypeKind::real) return finish_sum(group.sum, group.fits, group.count, type_, true, out, row);
    const double average = group.real / static_cast<double>(group.count);
    out.state[row] = group.count == 0 || !std::isfinite(average) ? State::null : State::value;
    out.real[row] = average;
  }

 private:
  Type type_;
};

class GivenSpread final : public Grouped<GivenSpread, Moments> {
 public:
  explicit GivenSpread(language::Aggregate kind) : kind_(kind) {}
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](Moments& group, std::uint32_t row, GroupIndex) {
      const double count = inputs[0]->real[row];
      if (count == 0) return;
      group.add(Moments::of(count, inputs[1]->real[row], std::max(0.0, inputs[2]->real[row])));
    });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(Moments& into, const Moments& from, GroupIndex) { into.add(from); }
  void finish(const Moments& group, Vector& out, std::size_t row) const { group.finish(kind_, out, row); }

 private:
  language::Aggregate kind_;
};

class GivenReal final : public Grouped<GivenReal, std::optional<double>> {
 public:
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0],
               [&](std::optional<double>& group, std::uint32_t row, GroupIndex) { group = inputs[0]->real[row]; });
  }
  Repr repr() const override { return Repr::real; }
  void merge_group(std::optional<double>& into, const std::optional<double>& from, GroupIndex) {
    if (from) into = from;
  }
  void finish(const std::optional<double>& value, Vector& out, std::size_t row) const {
    if (value) {
      out.real[row] = *value;
    } else {
      out.state[row] = State::null;
    }
  }
};

}  // namespace

std::unique_ptr<Accumulator> make_given_count() {
  return std::make_unique<GivenCount>();
}

std::unique_ptr<Accumulator> make_given_average(Type type) {
  return std::make_unique<GivenAverage>(type);
}

std::unique_ptr<Accumulator> make_given_spread(language::Aggregate kind) {
  return std::make_unique<GivenSpread>(kind);
}

std::unique_ptr<Accumulator> make_given_real() {
  return std::make_unique<GivenReal>();
}

}  // namespace juniper::engine
