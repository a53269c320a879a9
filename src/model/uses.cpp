#include "model/uses.h"

#include <algorithm>
#include <map>

namespace juniper::model {

using namespace language;

UserKind kind_of(Role role) {
  switch (role) {
    case Role::measure:
      return UserKind::measure;
    case Role::calculated_column:
      return UserKind::calculated_column;
    case Role::calculated_table:
      return UserKind::calculated_table;
    case Role::calendar:
      return UserKind::calendar;
    case Role::link:
      return UserKind::link;
    case Role::value_order:
      return UserKind::sort_order;
    case Role::row_order:
      return UserKind::row_order;
    case Role::reached_from:
      return UserKind::trimmed_table;
    case Role::table_key:
      return UserKind::table_key;
    case Role::draft:
    case Role::key:
    case Role::show:
    case Role::where:
    case Role::having:
      return UserKind::query;
    case Role::declared:
      return UserKind::declared;
    case Role::reader:
      return UserKind::reader;
    case Role::disabled:
      return UserKind::disabled;
  }
  return UserKind::disabled;
}

namespace {

// What a table says of itself is no use of it.
bool is_part_of(const Definition& definition, TableIndex table) {
  return definition.role != Role::declared && definition.role != Role::calendar && definition.table == table;
}

}  // namespace

Uses::Uses(const CheckedModel& model) {
  for (const Table& table : model.tables) columns_.emplace_back(table.columns.size());
  tables_.resize(model.tables.size());
  measures_.resize(model.measures.size());
  parameters_.resize(model.parameters.size());
  std::map<std::string, MeasureIndex> by_name;
  for (MeasureIndex m = 0; m < model.measures.size(); ++m) by_name.emplace(model.measures[m].name, m);
  each_definition(model, [&](const Definition& definition) {
    const bool is_captured = definition.query != nullptr && definition.query->captured;
    const User user{is_captured ? UserKind::captured_query : kind_of(definition.role), definition.name,
                    definition.span};
    // What belongs together is walked together: a user that is there already is the last one. Of captured queries, which
    // may be thousands, the first stands for all.
    const auto add = [&](std::vector<User>& users) {
      if (is_captured &&
          std::any_of(users.begin(), users.end(), [](const User& u) { return u.kind == UserKind::captured_query; }))
        return;
      if (users.empty() || users.back() != user) users.push_back(user);
    };
    each_mention(definition, [&](const Mention& mention) {
      if (mention.column) add(columns_[mention.column->table][mention.column->column]);
      if (const auto table = mention.column ? mention.column->table : mention.table;
          table && !is_part_of(definition, *table))
        add(tables_[*table]);
      if (mention.parameter) add(parameters_[*mention.parameter]);
      if (!mention.measure) return;
      // A query with drafts stands in a model of its own, whose measures bear the same names.
      const Measure& named = definition.model->measures[*mention.measure];
      if (definition.query != nullptr && is_draft(*definition.query, named)) return;
      const auto measure = by_name.find(named.name);
      if (measure != by_name.end()) add(measures_[measure->second]);
    });
  });
}

}  // namespace juniper::model

namespace juniper {

std::string_view to_string(UserKind kind) {
  switch (kind) {
    case UserKind::measure:
      return "measure";
    case UserKind::calculated_column:
      return "calculated column";
    case UserKind::calculated_table:
      return "calculated table";
    case UserKind::calendar:
      return "calendar";
    case UserKind::link:
      return "link";
    case UserKind::sort_order:
      return "sort order";
    case UserKind::row_order:
      return "order of rows in";
    case UserKind::trimmed_table:
      return "trimmed table";
    case UserKind::table_key:
      return "key of";
    case UserKind::query:
      return "query";
    case UserKind::captured_query:
      return "captured query";
    case UserKind::declared:
      return "declared use";
    case UserKind::reader:
      return "reader";
    case UserKind::disabled:
      return "disabled definition";
  }
  return "";
}

}  // namespace juniper
