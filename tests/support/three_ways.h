// One calculated column, computed in three ways.
#pragma once

#include <string>

#include "juniper/dataset.h"
#include "language/checked.h"

namespace juniper::test {

// What differs between a stored calculated column, the naive evaluator's values, and SQLite's: exact types exactly,
// reals to 1e-9 of their size. "" when nothing does.
std::string column_difference(const Dataset& dataset, language::ColumnId id);

}  // namespace juniper::test
