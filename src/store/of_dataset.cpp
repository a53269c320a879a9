#include "store/of_dataset.h"

#include "base/failure.h"

namespace juniper::store {

const Store& store_of(const Dataset& dataset) {
  if (Access::live(dataset) != nullptr) {
    throw base::Failure(
        base::error("JR-714", "some tables of this model are live, and this reads the rows of all",
                    "ask, explain, weigh, links and check work over live tables; for the rest, load them: write "
                    "`from` in the place of `live on`"));
  }
  return loaded_store_of(dataset);
}

}  // namespace juniper::store
