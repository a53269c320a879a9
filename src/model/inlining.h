// What keeps a calculated column from moving into the measures that read it.
#pragma once

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::model {

// Everything that needs the column stored, as errors (JR-803) at their places: queries that group or filter by it,
// slices, links, sort orders, declared uses, an aggregate in its own expression. None: measures alone can compute it.
Diagnostics inlining_blockers(const language::CheckedModel& model, language::ColumnId column);

}  // namespace juniper::model
