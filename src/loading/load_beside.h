// A changed model loaded into a store of its own.
#pragma once

#include <filesystem>

#include "juniper/dataset.h"
#include "store/store.h"

namespace juniper::loading {

// Loads a model into a new store in a file beside `path`, which is gone with the store, taking from an earlier store
// whatever has not changed, the order of rows included. Errors: as juniper::load.
Result<store::Store> load_beside(const Model& model, const std::filesystem::path& path, const store::Store& earlier,
                                 const Options& options);

}  // namespace juniper::loading
