// Both sides of a change over some of the rows of their large tables: for questions that are asked to see what a change
// does to a measure in many slices, when all rows have been compared already.
#pragma once

#include "refactor/proofs.h"

namespace juniper::refactoring {

struct Sample {
  Dataset before;
  Dataset after;
  std::uint64_t rows = 0;  // kept of each large table, or a little more; 0 where no table is large, and all are there
};

// Of each table of more than `most_rows` rows that no link leads to: rows at even distances, and of each of its links
// some that lead nowhere. Tables whose rows the change concerns, and those that links lead to, are whole. Nothing is
// computed anew. Throws a base::Failure where a store is damaged.
Sample sample(const Dataset& before, const Dataset& after, const Changed& changed, std::uint64_t most_rows);

}  // namespace juniper::refactoring
