#include "engine/naive/values.h"

#include <algorithm>
#include <boost/multiprecision/cpp_int.hpp>
#include <cmath>

#include "base/exact.h"

namespace juniper::engine::naive {

namespace {

using namespace language;
using Big = boost::multiprecision::cpp_int;

Big big(int128 value) {
  return Big(base::exact_text(value, 0));
}

Cell finite(double value) {
  if (!std::isfinite(value)) return {};
  return {Value::of(value == 0 ? 0.0 : value), false};
}

double quantile(std::vector<double> x, double p) {
  std::sort(x.begin(), x.end());
  const double position = p * static_cast<double>(x.size() - 1);
  const auto low = static_cast<std::size_t>(position);
  const std::size_t high = std::min(low + 1, x.size() - 1);
  const double rest = position - static_cast<double>(low);
  // The difference of two far numbers of opposite signs may be none.
  return (x[low] < 0) != (x[high] < 0) ? x[low] * (1 - rest) + x[high] * rest : x[low] + (x[high] - x[low]) * rest;
}

Cell of_numbers(const Node& node, const std::vector<Value>& values) {
  const bool exact = values[0].kind() == Value::Kind::exact;
  if (exact) {
    Big total = node.aggregate == Aggregate::product ? 1 : 0;
    for (const Value& v : values) {
      total = node.aggregate == Aggregate::product ? Big(total * big(v.exact())) : Big(total + big(v.exact()));
    }
    static const Big most = (Big(1) << 127) - 1;
    if (node.aggregate == Aggregate::avg) {
      if (abs(total) > most) return {Value(), true};  // as the sum would
      const Big divisor = Big(values.size()) * pow(Big(10), node.children[0]->type.scale);
      return {Value::of(static_cast<double>(boost::multiprecision::cpp_rational(total, divisor))), false};
    }
    const bool fits = node.type.kind == TypeKind::integer ? total >= std::numeric_limits<std::int64_t>::min() &&
                                                                total <= std::numeric_limits<std::int64_t>::max()
                                                          : abs(total) <= most;
    if (!fits) return {Value(), true};
    const auto text = total.str();
    return {Value::of(*base::parse_exact(text, 0)), false};
  }
  std::vector<double> x;
  for (const Value& v : values) x.push_back(v.real());
  const auto count = static_cast<double>(x.size());
  double sum = 0;
  double product = 1;
  for (const double v : x) {
    sum += v;
    product *= v;
  }
  // A mean of large numbers has a sum that is too large for a double.
  long double total = 0;
  for (const double v : x) total += v;
  const long double mean = total / x.size();
  long double squares_exactly = 0;
  for (const double v : x) squares_exactly += (v - mean) * (v - mean);
  const auto squares = static_cast<double>(squares_exactly);
  const auto sample = [&](double result) { return x.size() < 2 ? Cell{} : finite(result); };
  switch (node.aggregate) {
    case Aggregate::sum:
      return finite(sum);
    case Aggregate::avg:
      return finite(sum / count);
    case Aggregate::product:
      return finite(product);
    case Aggregate::variance:
      return sample(squares / (count - 1));
    case Aggregate::stddev:
      return sample(std::sqrt(squares / (count - 1)));
    case Aggregate::variance_pop:
      return finite(squares / count);
    case Aggregate::stddev_pop:
      return finite(std::sqrt(squares / count));
    case Aggregate::min:
    case Aggregate::max:
    case Aggregate::row_count:
    case Aggregate::count:
    case Aggregate::count_distinct:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::any:
    case Aggregate::every:
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::list:
    case Aggregate::rank:
    case Aggregate::exists:
    case Aggregate::only:
      return finite(quantile(std::move(x), node.aggregate == Aggregate::median ? 0.5 : node.literal.real()));
  }
  return {};
}

}  // namespace

Cell aggregate_values(const Node& node, std::vector<Value> values) {
  switch (node.aggregate) {
    case Aggregate::count:
      return number(static_cast<std::int64_t>(values.size()));
    case Aggregate::count_distinct:
      std::sort(values.begin(), values.end(), [](const Value& a, const Value& b) { return compare(a, b) < 0; });
      return number(std::unique(values.begin(), values.end()) - values.begin());
    case Aggregate::sum:
    case Aggregate::avg:
    case Aggregate::min:
    case Aggregate::max:
    case Aggregate::row_count:
    case Aggregate::product:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
    case Aggregate::any:
    case Aggregate::every:
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::list:
    case Aggregate::rank:
    case Aggregate::exists:
    case Aggregate::only:
      break;
  }
  if (values.empty()) return {};
  const auto less = [](const Value& a, const Value& b) { return compare(a, b) < 0; };
  switch (node.aggregate) {
    case Aggregate::min:
      return {*std::min_element(values.begin(), values.end(), less), false};
    case Aggregate::max:
      return {*std::max_element(values.begin(), values.end(), less), false};
    case Aggregate::any:
    case Aggregate::every: {
      const auto [low, high] = std::minmax_element(values.begin(), values.end(), less);
      return {node.aggregate == Aggregate::any ? *high : *low, false};
    }
    case Aggregate::list: {
      std::string list;
      for (const Value& text : values) list += (&text == values.data() ? "" : node.literal.text()) + text.text();
      return {Value::of(list), false};
    }
    case Aggregate::sum:
    case Aggregate::avg:
    case Aggregate::row_count:
    case Aggregate::count:
    case Aggregate::count_distinct:
    case Aggregate::product:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::rank:
    case Aggregate::exists:
    case Aggregate::only:
      return of_numbers(node, values);
  }
  return {};
}

}  // namespace juniper::engine::naive
