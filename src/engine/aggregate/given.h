// Accumulators of what another engine has aggregated already: they take its numbers for parts of groups, and meet as all
// others do.
#pragma once

#include <memory>

#include "engine/aggregate/accumulate.h"

namespace juniper::engine {

// Of counts (narrow or wide); those of parts add up.
std::unique_ptr<Accumulator> make_given_count();
// Of sums (wide or real) and the counts beside them; an average of numbers of that type.
std::unique_ptr<Accumulator> make_given_average(Type type);
// Of counts, means, and sums of squared deviations (all real): a variance, or its root, as `kind` says.
std::unique_ptr<Accumulator> make_given_spread(language::Aggregate kind);
// Of finished reals, one for each group.
std::unique_ptr<Accumulator> make_given_real();

}  // namespace juniper::engine
