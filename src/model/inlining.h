// What keeps a calculated column from moving into the measures that read it.
#pragma once

#include <vector>

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::model {

// Everything that needs the column stored, as errors (JR-803) at their places: queries that group or filter by it,
// slices, links, sort orders, declared uses, an aggregate in its own expression. None: measures alone can compute it.
Diagnostics inlining_blockers(const language::CheckedModel& model, language::ColumnId column);

// What goes when a column moves into the measures: the column and, level by level, those below it that nothing else
// needs and nothing blocks.
std::vector<language::ColumnId> columns_to_inline(const language::CheckedModel& model, language::ColumnId column);

// True if an expression over one row's columns is null where all of them are, as they are where a link leads to no row.
// Another one gives a value there, which a stored column seen across the link does not.
bool is_null_without_row(const language::NodePtr& expression);

}  // namespace juniper::model
