// Syntax tree to checked tree: names, types, links and slices.
#pragma once

#include "juniper/diagnostics.h"
#include "language/checked.h"
#include "language/syntax.h"

namespace juniper::language {

// Checks a whole model. Appends every problem found; the result may be used only when none is an error.
CheckedModel check_model(const syntax::Model& model, Sources sources, Diagnostics& diagnostics);

// Checks one query against a checked model, with further conditions (checked as if each were joined to its `where`
// by `and`). Their texts must be in model.sources.
Query check_query(const CheckedModel& model, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics);

// The tables over which a measure's aggregates go, those of the measures that it names included; ascending.
std::vector<TableIndex> aggregated_tables(const CheckedModel& model, const NodePtr& node);

// The column references of a condition.
std::vector<ColumnRef> column_refs(const NodePtr& node);

// True if the condition reaches rows of `table`: each of its columns can be read from there.
bool reaches(const CheckedModel& model, const NodePtr& condition, TableIndex table);

}  // namespace juniper::language
