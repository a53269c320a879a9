// Models whose tables, links and values are drawn, too: what holds for one schema need not hold for another.
//
// One to eight tables, chains and diamonds of links, several links between the same tables and columns, keys of every
// type and of several columns; each column has a profile of values: extremes of its type, nulls, one value, hashes of 64
// bits, near-unique and long texts, reals of both zeros and of huge and tiny sizes.
#pragma once

#include "random/random_model.h"

namespace juniper::test {

// Each table holds up to `most_rows` rows; some hold none, or one.
RandomModel drawn_model(Random& random, std::size_t most_rows);

}  // namespace juniper::test
