// The five shapes of queries that matter most as a programmer would write each of them by hand, for this model alone,
// over the same encoded blocks: the speed that the engine is held against.
#pragma once

#include <functional>
#include <map>
#include <string>

#include "store/store.h"

namespace bench {

// What each computes, by the name of its query: a number that tells whether the work was done right, the sum of energy
// in thousandths of a kWh of the rows or groups that the query shows, or the count that it shows.
std::map<std::string, std::function<std::int64_t()>> by_hand(const juniper::store::Store& store, unsigned threads);

}  // namespace bench
