// The loops of conditions and of what they choose, compiled for each set of instructions that the processor may have.
// Marks stand in bytes of 0 or 255, one for each row.
#pragma once

#include <cstdint>
#include <span>

#include "engine/vector/vector.h"

namespace juniper::engine {

// Marks the rows where a condition is true: of value, and not 0.
void mark_true(const Vector& condition, std::span<std::uint8_t> marks);

// to[i] = from[i] at the marked rows.
void choose(std::span<const std::uint8_t> marks, const std::int64_t* from, std::int64_t* to);
void choose(std::span<const std::uint8_t> marks, const double* from, double* to);
void choose(std::span<const std::uint8_t> marks, const State* from, State* to);

// `and` and `or` of two conditions, which differ in the value that decides alone: false or true. An overflow is what
// the other does not decide, null what neither decides.
void combine(const Vector& a, const Vector& b, bool deciding, Vector& out);

}  // namespace juniper::engine
