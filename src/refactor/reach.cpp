#include "refactor/reach.h"

#include <algorithm>

namespace juniper::refactoring {

using namespace language;

namespace {

// The columns and, through any number of steps, the calculated ones that are built on them.
std::set<ColumnId> reached_columns(const CheckedModel& model, std::set<ColumnId> reached) {
  for (bool grown = true; grown;) {
    grown = false;
    for (TableIndex t = 0; t < model.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
        const NodePtr& expression = model.tables[t].columns[c].expression;
        if (!expression || reached.contains({t, c})) continue;
        const Needs needs = needs_of(model, expression, t);
        const bool reads =
            std::any_of(needs.columns.begin(), needs.columns.end(), [&](ColumnId id) { return reached.contains(id); });
        if (reads) grown = reached.insert({t, c}).second;
      }
    }
  }
  return reached;
}

}  // namespace

Reach::Reach(const CheckedModel& model, const Changed& changed)
    : model_(model), changed_(changed), columns_(reached_columns(model, changed.columns)) {}

bool Reach::leads_to_changed(TableIndex from) const {
  return std::any_of(changed_.tables.begin(), changed_.tables.end(),
                     [&](TableIndex to) { return !model_.paths(from, to).empty(); });
}

bool Reach::reads(const CheckedModel& model, const NodePtr& expression) const {
  const Needs needs = needs_of(model, expression, std::nullopt);
  return std::any_of(needs.columns.begin(), needs.columns.end(), [&](ColumnId id) { return columns_.contains(id); }) ||
         std::any_of(needs.tables.begin(), needs.tables.end(),
                     [&](TableIndex table) { return leads_to_changed(table); });
}

bool Reach::reads(const Query& query) const {
  bool found = (query.from && leads_to_changed(*query.from)) ||
               std::any_of(query.sources.begin(), query.sources.end(),
                           [&](const SeenTable& source) { return leads_to_changed(source.table); });
  each_definition(model_, query, [&](const Definition& definition) {
    found = found ||
            std::any_of(definition.columns.begin(), definition.columns.end(),
                        [&](ColumnId id) { return columns_.contains(id) || leads_to_changed(id.table); }) ||
            (definition.expression && reads(*definition.model, definition.expression));
  });
  return found;
}

}  // namespace juniper::refactoring
