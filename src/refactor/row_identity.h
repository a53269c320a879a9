// Proofs that links lead to the same rows, and that tables hold the same rows, whatever their numbers are now.
#pragma once

#include "juniper/refactor.h"
#include "refactor/steps.h"

namespace juniper::refactoring {

// Every row of the many side leads to the row that it led to before, or to none as before. Rows are told by what the
// one side holds: those that a row leads to, before and after, must hold the same values in all columns that both
// models have.
RowProof prove_relinked(const Dataset& before, const Dataset& after, const Claim& claim);
// The same for all links to a table; its rows are those that they lead to.
RowProof prove_trimmed(const Dataset& before, const Dataset& after, const Claim& claim);
// A table has the same rows in another order: told by a column that is different in every row.
Result<RowProof> prove_reordered(const Dataset& before, const Dataset& after, const Claim& claim);

}  // namespace juniper::refactoring
