// Aggregates over values, by the textbook: exact numbers added up without a limit, reals one after the other.
#pragma once

#include <vector>

#include "engine/naive/scalar.h"

namespace juniper::engine::naive {

// The aggregate that `node` says over `values`, of which none is null. It is one that looks at values alone: not row_count,
// exists, first, last, only and rank.
Cell aggregate_values(const language::Node& node, std::vector<Value> values);

}  // namespace juniper::engine::naive
