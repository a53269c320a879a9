#include "engine/vector/operations/range.h"

#include <algorithm>
#include <limits>

namespace juniper::engine::ranges {

using language::Node;

namespace {

// Sums and products stop at the ends of 128 bits: whatever reaches them does not fit 64.
int128 saturating_add(int128 a, int128 b) {
  int128 r = 0;
  if (!__builtin_add_overflow(a, b, &r)) return r;
  return a > 0 ? base::int128_max : base::int128_min;
}
int128 saturating_multiply(int128 a, int128 b) {
  int128 r = 0;
  if (!__builtin_mul_overflow(a, b, &r)) return r;
  return (a > 0) == (b > 0) ? base::int128_max : base::int128_min;
}

Range negated(Range a) {
  return {a.high == base::int128_min ? base::int128_max : -a.high,
          a.low == base::int128_min ? base::int128_max : -a.low};
}

Range joined(Range a, Range b) {
  return {std::min(a.low, b.low), std::max(a.high, b.high)};
}

int128 largest_magnitude(Range a) {
  return std::max(a.high, negated(a).high);
}

}  // namespace

Range of_type(const Node& node, Ranges) {
  switch (node.type.kind) {
    case TypeKind::boolean:
      return {0, 1};
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return {std::numeric_limits<std::int64_t>::min(), std::numeric_limits<std::int64_t>::max()};
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::real:
    case TypeKind::text:
      break;
  }
  return {};
}

Range sum(const Node&, Ranges operands) {
  return {saturating_add(operands[0].low, operands[1].low), saturating_add(operands[0].high, operands[1].high)};
}

Range difference(const Node&, Ranges operands) {
  const Range other = negated(operands[1]);
  return {saturating_add(operands[0].low, other.low), saturating_add(operands[0].high, other.high)};
}

Range product(const Node&, Ranges operands) {
  const auto [a, b] = std::pair(operands[0], operands[1]);
  const auto [low, high] = std::minmax({saturating_multiply(a.low, b.low), saturating_multiply(a.low, b.high),
                                        saturating_multiply(a.high, b.low), saturating_multiply(a.high, b.high)});
  return {low, high};
}

Range negative(const Node&, Ranges operands) {
  return negated(operands[0]);
}

Range magnitude(const Node&, Ranges operands) {
  return {0, largest_magnitude(operands[0])};
}

Range same_sign(const Node&, Ranges operands) {
  const int128 most = largest_magnitude(operands[0]);
  return {saturating_multiply(-1, most), most};
}

Range rescaled(const Node& node, Ranges operands) {
  const int128 factor = base::power_of_ten(node.type.scale - node.children[0]->type.scale);
  return {saturating_multiply(operands[0].low, factor), saturating_multiply(operands[0].high, factor)};
}

// At most one unit of the digit rounded to is added; rounding to 10^18 is the coarsest.
Range rounded(const Node& node, Ranges operands) {
  const Range wider = same_sign(node, operands);
  const bool coarse = node.children.size() > 1 && node.children[1]->literal.exact() < 0;
  const int128 unit = coarse ? base::power_of_ten(base::max_scale) : 1;
  return {saturating_add(wider.low, -unit), saturating_add(wider.high, unit)};
}

Range one_of(const Node&, Ranges operands) {
  Range all = operands[0];
  for (const Range& operand : operands) all = joined(all, operand);
  return all;
}

Range value_of_cases(const Node&, Ranges operands) {
  Range all = operands.back();
  for (std::size_t i = 1; i + 1 < operands.size(); i += 2) all = joined(all, operands[i]);
  return all;
}

}  // namespace juniper::engine::ranges
