// The text part of inlining: which columns go, what stands in their place, what is in the way.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::refactor {

struct InlinePlan {
  std::vector<language::ColumnId> removed;    // the column asked for first, then those below it
  std::vector<language::ColumnId> rewritten;  // calculated columns that stay, with a new expression
  std::string text;                           // the whole model text after the change
};

// Plans to inline `column`. Errors as inline_column's.
Result<InlinePlan> plan_inline(const language::CheckedModel& model, language::ColumnId column);

// The expression of a calculated column with every column of `removed` replaced by its own expression, as seen from the
// column's table.
language::NodePtr expand(const language::CheckedModel& model, const language::NodePtr& node,
                         const std::set<language::ColumnId>& removed);

// The same as text.
std::string expanded_text(const language::CheckedModel& model, language::ColumnId column,
                          const std::set<language::ColumnId>& removed);

}  // namespace juniper::refactor
