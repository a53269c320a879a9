// The rules of the audit. Each stands in a file of its own under rules/, and in the table in rules.cpp.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "juniper/audit.h"
#include "language/checked.h"
#include "model/uses.h"
#include "store/store.h"

namespace juniper::auditing {

// What rules look at.
class Subject {
 public:
  explicit Subject(const Dataset& dataset);

  const Dataset& dataset() const { return dataset_; }
  const language::CheckedModel& model() const { return dataset_.model().checked(); }
  const store::StoredTable& table(language::TableIndex t) const { return dataset_.store().tables[t]; }
  const store::Column& data(language::ColumnId id) const { return table(id.table).columns[id.column].data; }
  const std::vector<model::User>& users(language::ColumnId id) const { return users_[id.table][id.column]; }

  // Calls visit(id, column, data) for each column that could be computed.
  template <class Visit>
  void each_column(const Visit& visit) const {
    for (language::TableIndex t = 0; t < model().tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model().tables[t].columns.size(); ++c) {
        if (table(t).columns[c].broken.empty())
          visit(language::ColumnId{t, c}, model().tables[t].columns[c], table(t).columns[c].data);
      }
    }
  }

  // A finding about a column, or about whatever stands at a place of the text.
  Finding about(language::ColumnId id, std::string evidence, std::string remedy,
                std::optional<std::uint64_t> saved_bytes) const;
  Finding about(const std::string& name, language::Span span, std::string evidence, std::string remedy) const;

 private:
  const Dataset& dataset_;
  std::vector<std::vector<std::vector<model::User>>> users_;  // of each column of each table
};

using Findings = std::vector<Finding>;

// The finder fills in all but code, title and reason.
struct Rule {
  const char* code;
  const char* title;
  const char* reason;
  void (*find)(const Subject&, Findings&);
};
std::span<const Rule> rules();

void find_unused_columns(const Subject& subject, Findings& findings);
void find_unused_unique_columns(const Subject& subject, Findings& findings);
void find_constant_columns(const Subject& subject, Findings& findings);
void find_values_held_as_text(const Subject& subject, Findings& findings);
void find_looked_up_copies(const Subject& subject, Findings& findings);
void find_inlinable_columns(const Subject& subject, Findings& findings);
void find_timestamps_to_split(const Subject& subject, Findings& findings);
void find_whole_table_aggregates(const Subject& subject, Findings& findings);
void find_oversized_dimensions(const Subject& subject, Findings& findings);
void find_unused_measures(const Subject& subject, Findings& findings);
void find_equal_measures(const Subject& subject, Findings& findings);

}  // namespace juniper::auditing
