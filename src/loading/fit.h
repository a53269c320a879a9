// Whether a store has the shape that a model gives it. Anybody may have written the file, and what reads its rows by
// number relies on it: tables, columns and their types, and links with a row for each row of their table.
#pragma once

#include <filesystem>

#include "language/checked.h"
#include "store/store.h"

namespace juniper::loading {

// The store, if it has the shape of the model. Errors: JR-605 (it has not).
Result<store::Store> fitting(store::Store store, const language::CheckedModel& model,
                             const std::filesystem::path& path);

}  // namespace juniper::loading
