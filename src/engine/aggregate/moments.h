// How far numbers lie from their mean.
#pragma once

#include <cmath>

#include "engine/vector/vector.h"
#include "language/checked.h"

namespace juniper::engine {

// Count, mean and sum of squared deviations, updated value by value (B. P. Welford, Note on a method for calculating
// corrected sums of squares and products, Technometrics 4, 1962) and merged pairwise (T. F. Chan, G. H. Golub, R. J.
// LeVeque, Updating formulae and a pairwise algorithm for computing sample variances, 1979). The mean keeps what its last
// digit leaves out: of values that lie far from zero and near each other, the deviations are of that size.
struct Moments {
  double count = 0;
  double mean = 0;
  double mean_rest = 0;
  double squares = 0;

  void add(double value) {
    count += 1;
    const double from_old = from_mean(value);
    move_mean(from_old / count);
    squares += from_old * from_mean(value);
  }
  void add(const Moments& other) {
    if (other.count == 0) return;
    const double total = count + other.count;
    const double apart = (other.mean - mean) + (other.mean_rest - mean_rest);
    squares += other.squares + apart * apart * (count * other.count / total);
    move_mean(apart * (other.count / total));
    count = total;
  }

  static Moments of(double count, double mean, double squares) {
    Moments moments;
    moments.count = count;
    moments.mean = mean;
    moments.squares = squares;
    return moments;
  }
  // The variance of a sample or of a population, or its root.
  void finish(language::Aggregate kind, Vector& out, std::size_t row) const {
    using language::Aggregate;
    const bool sample = kind == Aggregate::stddev || kind == Aggregate::variance;
    const double divisor = count - (sample ? 1 : 0);
    if (divisor < 1) {
      out.state[row] = State::null;
      return;
    }
    const double variance = squares / divisor;
    const bool root = kind == Aggregate::stddev || kind == Aggregate::stddev_pop;
    out.real[row] = root ? std::sqrt(variance) : variance;
    if (!std::isfinite(variance)) out.state[row] = State::null;
  }

 private:
  double from_mean(double value) const { return (value - mean) - mean_rest; }
  // D. E. Knuth, The Art of Computer Programming 2, 4.2.2: a sum and exactly what it leaves out.
  void move_mean(double by) {
    const double sum = mean + by;
    const double added = sum - mean;
    mean_rest += (mean - (sum - added)) + (by - added);
    mean = sum;
  }
};

}  // namespace juniper::engine
