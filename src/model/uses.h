// Who uses what: for each column, table, measure and parameter, the definitions and queries that name it. It is the one
// graph that descriptions, the audit and refactorings ask.
#pragma once

#include <string>
#include <vector>

#include "juniper/model.h"
#include "language/traverse.h"

namespace juniper::model {

struct User {
  UserKind kind = UserKind::measure;
  std::string name;     // "revenue", "sessions.line_value", "sessions.bay_id -> bays.bay_id"
  language::Span span;  // of the definition

  bool operator==(const User&) const = default;
};

// How a user in that role is told.
UserKind kind_of(language::Role role);

// Users in the order of language::Role, each once, but of captured queries the first alone. Made by one walk over the
// model; threads may read one together. What it gives lives as long as it does, so a temporary gives nothing.
class Uses {
 public:
  explicit Uses(const language::CheckedModel& model);

  // A column on the many side of a link that is followed to reach another column counts as used by the link alone.
  const std::vector<User>& of(language::ColumnId column) const& { return columns_[column.table][column.column]; }
  // Who goes over the table's rows, reads one of its columns, or leads to it; its own calculated columns, orders and
  // links are a part of it.
  const std::vector<User>& of_table(language::TableIndex table) const& { return tables_[table]; }
  // With the queries whose own drafts stand beside it.
  const std::vector<User>& of_measure(language::MeasureIndex measure) const& { return measures_[measure]; }
  const std::vector<User>& of_parameter(std::uint32_t parameter) const& { return parameters_[parameter]; }

  const std::vector<User>& of(language::ColumnId) && = delete;
  const std::vector<User>& of_table(language::TableIndex) && = delete;
  const std::vector<User>& of_measure(language::MeasureIndex) && = delete;
  const std::vector<User>& of_parameter(std::uint32_t) && = delete;

 private:
  std::vector<std::vector<std::vector<User>>> columns_;
  std::vector<std::vector<User>> tables_;
  std::vector<std::vector<User>> measures_;
  std::vector<std::vector<User>> parameters_;
};

}  // namespace juniper::model
