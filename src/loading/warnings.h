// What a store says about its data that is no error, and worth a look.
#pragma once

#include "language/checked.h"
#include "store/store.h"

namespace juniper::loading {

// Links that are broken, what is therefore not computed, and keys that are null.
Diagnostics data_warnings(const language::CheckedModel& model, const store::Store& store);

}  // namespace juniper::loading
