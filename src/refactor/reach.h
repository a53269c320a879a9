// Which expressions and queries a change of a model can reach.
#pragma once

#include <set>

#include "language/traverse.h"
#include "refactor/proofs.h"

namespace juniper::refactoring {

class Reach {
 public:
  // Both must outlive it; the model is that before the change.
  Reach(const language::CheckedModel& model, const Changed& changed);

  // True if it reads a column that changed, or one that is computed from such, or rows that lead to a table that changed.
  bool reads(const language::NodePtr& expression) const { return reads(model_, expression); }
  bool reads(const language::Query& query) const;

 private:
  bool reads(const language::CheckedModel& model, const language::NodePtr& expression) const;
  bool leads_to_changed(language::TableIndex from) const;

  const language::CheckedModel& model_;
  const Changed& changed_;
  std::set<language::ColumnId> columns_;
};

}  // namespace juniper::refactoring
