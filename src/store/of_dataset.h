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
  static const std::shared_ptr<const engine::LiveAsker>& live(const Dataset& dataset) { return dataset.live_; }
  static Dataset dataset(Model model, std::shared_ptr<const Store> store, Options options,
                         std::shared_ptr<const engine::LiveAsker> live) {
    return {std::move(model), std::move(store), std::move(options), std::move(live)};
  }
};

// Its file is one of those in use. Of live tables it has no rows: this is for whoever knows that.
inline const Store& loaded_store_of(const Dataset& dataset) {
  const Store& store = Access::store(dataset);
  base::FilesInUse::add(store.file);
  return store;
}

// For all that looks at every table's rows. Throws a base::Failure with JR-714 where some are live.
const Store& store_of(const Dataset& dataset);

inline std::shared_ptr<const Store> shared_store_of(const Dataset& dataset) {
  return Access::shared(dataset);
}

inline const std::shared_ptr<const engine::LiveAsker>& live_of(const Dataset& dataset) {
  return Access::live(dataset);
}

inline Dataset dataset_of(Model model, std::shared_ptr<const Store> store, Options options,
                          std::shared_ptr<const engine::LiveAsker> live) {
  return Access::dataset(std::move(model), std::move(store), std::move(options), std::move(live));
}

}  // namespace juniper::store
