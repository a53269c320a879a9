// Proofs that a change of a model changes no number.
#pragma once

#include "juniper/refactor.h"
#include "refactor/steps.h"

namespace juniper::refactoring {

// Compares all rows. Expressions are evaluated by a query that counts the rows that differ: another way than the one
// that computed what is stored. Errors: those of that query.
Result<RowProof> prove_rows(const Dataset& before, const Dataset& after, const Claim& claim, Plan plan);

inline constexpr std::size_t most_differences = 20;  // kept of each comparison

// What a change touches, of the model before.
struct Changed {
  std::set<language::ColumnId> columns;   // whose values, or way to be computed
  std::set<language::TableIndex> tables;  // that links lead to in another way, or whose rows are others
  Tolerance tolerance;                    // of reals: to the bit, but where rows come in another order
};

// Asks both models a query once and compares; in turn for its times as well where these are wanted. Errors are thrown
// (base::Failure): those of the query, on the model before or after.
QueryProof prove_query(const Dataset& before, const Dataset& after, const Changed& changed, const std::string& query,
                       const SpeedSettings* timing);

// Asks both models for whatever the change can reach.
ProbeProof probe(const Dataset& before, const Dataset& after, const Changed& changed, const RefactorSettings& settings);

}  // namespace juniper::refactoring
