// One operation of the checked tree over single values: the naive evaluator's, written apart from the kernels so that
// either can be held against the other.
#pragma once

#include <vector>

#include "engine/asked/setting.h"
#include "juniper/value.h"
#include "language/checked.h"

namespace juniper::engine::naive {

// A value, null, or a result that does not fit 128 bits.
struct Cell {
  Value value;
  bool overflow = false;
};
inline Cell number(std::int64_t value) {
  return {Value::of(static_cast<int128>(value)), false};
}

// The node is neither a leaf nor one that decides which operands are evaluated (`cases`).
Cell apply(const language::Node& node, const std::vector<Cell>& operands, const Setting& setting);

}  // namespace juniper::engine::naive
