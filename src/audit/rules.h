// The rules of the audit. Each stands in a file of its own under rules/, and in the table in rules.cpp.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "juniper/audit.h"
#include "language/traverse.h"
#include "model/access.h"
#include "model/uses.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::auditing {

// What rules look at.
class Subject {
 public:
  Subject(const Dataset& dataset, bool fast);

  const Dataset& dataset() const { return dataset_; }
  const language::CheckedModel& model() const { return model::checked(dataset_.model()); }
  const store::StoredTable& table(language::TableIndex t) const { return store::store_of(dataset_).tables[t]; }
  const store::Column& data(language::ColumnId id) const { return table(id.table).columns[id.column].data; }
  const std::vector<model::User>& users(language::ColumnId id) const { return uses_.of(id); }
  const model::Uses& uses() const { return uses_; }

  // A column to measure on: the column itself, or for a fast audit some stretches of its rows, if it has many; and the
  // bytes that a column made from that one would have if it were made from the whole.
  store::Column sampled(language::ColumnId id) const;
  std::uint64_t whole_bytes(language::ColumnId id, const store::Column& made) const;
  bool is_sampled(language::ColumnId id) const { return fast_ && data(id).rows > sample_rows; }
  bool is_fast() const { return fast_; }

  // The expression that a measure's name stands for, through any number of names.
  const language::NodePtr& defined(const language::NodePtr& node) const;
  // The text of an expression.
  std::string text(const language::NodePtr& node) const { return std::string(model().sources.text(node->span)); }

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
  // The same with a step of a refactoring as the remedy.
  Finding with_step(Finding finding, const std::string& step) const;

 private:
  static constexpr std::uint64_t sample_rows = std::uint64_t{1} << 17;
  const Dataset& dataset_;
  bool fast_;
  model::Uses uses_;
};

// A column as a step of a refactoring names it.
std::string step_name(const language::CheckedModel& model, language::ColumnId id);

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
void find_excess_digits(const Subject& subject, Findings& findings);
void find_determined_columns(const Subject& subject, Findings& findings);
void find_concatenated_keys(const Subject& subject, Findings& findings);
void find_walks_to_many(const Subject& subject, Findings& findings);
void find_quadratic_columns(const Subject& subject, Findings& findings);
void find_smaller_orders(const Subject& subject, Findings& findings);
void find_products_of_totals(const Subject& subject, Findings& findings);
void find_aggregated_ratios(const Subject& subject, Findings& findings);
void find_averages_of_averages(const Subject& subject, Findings& findings);
void find_divisions_by_zero(const Subject& subject, Findings& findings);
void find_filters_of_nothing(const Subject& subject, Findings& findings);
void find_repeated_constants(const Subject& subject, Findings& findings);
void find_counted_texts(const Subject& subject, Findings& findings);
void find_unused_measures(const Subject& subject, Findings& findings);
void find_equal_measures(const Subject& subject, Findings& findings);
void find_repeated_shapes(const Subject& subject, Findings& findings);
void find_calendar_gaps(const Subject& subject, Findings& findings);
void find_idle_readers(const Subject& subject, Findings& findings);

}  // namespace juniper::auditing
