// What keeps rows of a table that no link leads to.
#pragma once

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::model {

// Everything that would see that such rows are gone, as errors (JR-803) at their places: the calendar, what goes over the
// table's rows, queries that list them, declared uses. None: `trim` changes no number.
Diagnostics trimming_blockers(const language::CheckedModel& model, language::TableIndex table);

}  // namespace juniper::model
