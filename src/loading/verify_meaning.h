// Whether what a store says of its rows holds of them: beyond checksums, which only tell that bytes are as they were
// written.
#pragma once

#include "language/checked.h"
#include "store/store.h"

namespace juniper::loading {

// Reads every row of a store that has the shape of the model (loading/fit.h). Throws a base::Failure with JR-605 where
//   - a column has other nulls, distinct values, or another smallest or largest value than it says;
//   - values of a key repeat that the model declares as different in every row;
//   - a link leads to other rows than its keys do.
// Calculated columns are not computed anew.
void verify_meaning(const language::CheckedModel& model, const store::Store& store, unsigned threads);

}  // namespace juniper::loading
