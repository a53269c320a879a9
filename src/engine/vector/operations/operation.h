// What each operation of the checked tree does to whole vectors, with what its results can be: registered together, so
// that there is none without the other.
#pragma once

#include <cstdint>
#include <vector>

#include "engine/asked/setting.h"
#include "engine/vector/operations/range.h"
#include "engine/vector/vector.h"
#include "language/checked.h"

namespace juniper::engine {

using Inputs = std::vector<const Vector*>;

// Evaluates one node over its children's values into `out`, whose representation and size are set.
using Kernel = void(const language::Node& node, const Inputs& in, const Setting& setting, Vector& out);

// Of which representation an operation takes its exact operands.
enum class Operands : std::uint8_t {
  as_result,  // of the result's, which is wide where one of them is; conditions of `cases` are as they are
  alike,      // all wide where one of them is
  any,        // each as it is
  narrow,     // of 64 bits: counts of days, positions in a text
};

struct Operation {
  Kernel* kernel;
  // The result is narrow only where this fits 64 bits.
  RangeRule* range;
  Operands operands;
};

// Of a node that is evaluated from its children: neither a literal, a column, a measure nor an aggregate.
Operation operation_of(const language::Node& node);

}  // namespace juniper::engine
