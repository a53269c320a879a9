// What each operation of the checked tree does to whole vectors.
#pragma once

#include <cstdint>
#include <vector>

#include "engine/vector.h"
#include "language/checked.h"

namespace juniper::engine {

// What a plan fixes for a whole run.
struct Setting {
  std::int64_t today = 0;  // the day of today(), in days since 1970-01-01
};

// Evaluates one node over its children's values into `out`, whose representation and size are set. Exact operands are
// of one representation (`narrow` only when the result provably fits 64 bits); the result has `out.repr`. The node is
// neither a literal, a column, a measure nor an aggregate.
void apply(const language::Node& node, const std::vector<const Vector*>& inputs, const Setting& setting, Vector& out);

}  // namespace juniper::engine
