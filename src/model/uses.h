// Who uses what: for each column, the definitions and queries that name it.
#pragma once

#include <string>
#include <vector>

#include "juniper/model.h"
#include "language/checked.h"

namespace juniper::model {

struct User {
  UserKind kind = UserKind::measure;
  std::string name;     // "revenue", "sessions.line_value", "sessions.bay_id -> bays.bay_id"
  language::Span span;  // of the definition

  bool operator==(const User&) const = default;
};

// Users of each column, in the order of the model. A column on the many side of a link that is followed to reach
// another column counts as used by the link alone.
std::vector<User> users_of_column(const language::CheckedModel& model, language::ColumnId column);

// The measures that a query defines for itself alone.
std::vector<const language::Measure*> drafts_of(const language::Query& query);

// A link as it is written: "sessions.end_day -> days.day as end_date".
std::string link_name(const language::CheckedModel& model, const language::Link& link);

}  // namespace juniper::model
