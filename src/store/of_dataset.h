// The store of a dataset, which users of the library do not see.
#pragma once

#include <memory>
#include <utility>

#include "juniper/dataset.h"
#include "store/store.h"

namespace juniper::store {

struct Access {
  static const Store& store(const Dataset& dataset) { return *dataset.store_; }
  static std::shared_ptr<const Store> shared(const Dataset& dataset) { return dataset.store_; }
  static Dataset dataset(Model model, std::shared_ptr<const Store> store, Options options) {
    return {std::move(model), std::move(store), std::move(options)};
  }
};

// Its file is one of those in use.
inline const Store& store_of(const Dataset& dataset) {
  const Store& store = Access::store(dataset);
  base::FilesInUse::add(store.file);
  return store;
}

inline std::shared_ptr<const Store> shared_store_of(const Dataset& dataset) {
  return Access::shared(dataset);
}

inline Dataset dataset_of(Model model, std::shared_ptr<const Store> store, Options options) {
  return Access::dataset(std::move(model), std::move(store), std::move(options));
}

}  // namespace juniper::store
