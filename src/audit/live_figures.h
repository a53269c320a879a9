// What live tables are weighed and linked by: questions in the model's own words, each one statement there.
#pragma once

#include <cstdint>

#include "juniper/links.h"
#include "juniper/weigh.h"
#include "language/checked.h"

namespace juniper::auditing {

// Adds the live tables of a dataset, and their columns. Errors: those of `ask`.
Result<void> add_live(const Dataset& dataset, Weighing& weighing);

// How well a link fits that starts at a live table; `samples` as for `links`. What can't be asked is told as broken. Errors:
// those of `ask`.
Result<LinkUse> live_use_of(const Dataset& dataset, language::LinkIndex link, std::size_t samples);

// The rows of a table, of a live one as it is there now.
Result<std::uint64_t> rows_of(const Dataset& dataset, language::TableIndex table);

}  // namespace juniper::auditing
