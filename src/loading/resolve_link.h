// Links as dense row numbers.
#pragma once

#include "store/store.h"

namespace juniper::loading {

// For each row of the many side, the row of the one side whose key has the same value; `no_row` (the number of rows of
// the one side) where the value is null or no key has it. Of equal keys the first row counts. Both columns have one
// type, which is not real.
store::StoredLink resolve_link(const store::Column& from, const store::Column& to);

}  // namespace juniper::loading
