#include "audit/rules.h"

#include <array>

namespace juniper::auditing {

using namespace language;

namespace {

constexpr std::array<Rule, 11> all_rules{{
    {"JA-101", "a column that nothing uses", "it is loaded, stored and kept in memory for nobody", find_unused_columns},
    {"JA-102", "a column that nothing uses, different in every row",
     "it can't be compressed, and is often the largest column of its table", find_unused_unique_columns},
    {"JA-103", "a column with one value", "it tells nothing apart", find_constant_columns},
    {"JA-104", "numbers or dates held as text",
     "a text needs a dictionary, is not ordered as its numbers are, and can't be added up", find_values_held_as_text},
    {"JA-105", "a stored copy of a value that a link leads to",
     "a measure can read it through the link, which is stored anyway", find_looked_up_copies},
    {"JA-106", "an aggregate that gives every row the same number",
     "in a calculated column an aggregate sees the whole table; in a measure it would see the slice",
     find_whole_table_aggregates},
    {"JA-107", "a calculated column that is only ever aggregated",
     "measures can compute it row by row as they aggregate it, and nothing is stored", find_inlinable_columns},
    {"JA-108", "a timestamp that takes fewer bytes as date and time of day",
     "dates and times of day are few, their combinations many", find_timestamps_to_split},
    {"JA-201", "a dimension of which links use a small part",
     "rows that nothing leads to cost bytes, and show up in lists to choose from", find_oversized_dimensions},
    {"JA-301", "a measure that nothing uses", "nobody checks it, and everybody reads past it", find_unused_measures},
    {"JA-302", "two measures that are the same", "one of them will be changed, and the other forgotten",
     find_equal_measures},
}};

}  // namespace

std::span<const Rule> rules() {
  return all_rules;
}

Subject::Subject(const Dataset& dataset) : dataset_(dataset) {
  for (TableIndex t = 0; t < model().tables.size(); ++t) {
    auto& columns = users_.emplace_back();
    for (std::uint32_t c = 0; c < model().tables[t].columns.size(); ++c)
      columns.push_back(model::users_of_column(model(), {t, c}));
  }
}

Finding Subject::about(ColumnId id, std::string evidence, std::string remedy,
                       std::optional<std::uint64_t> saved_bytes) const {
  Finding finding =
      about(model().column_name(id), model().column(id).name_span, std::move(evidence), std::move(remedy));
  finding.saved_bytes = saved_bytes;
  return finding;
}

Finding Subject::about(const std::string& name, Span span, std::string evidence, std::string remedy) const {
  Finding finding;
  finding.subject = name;
  finding.place = model().sources.place(span);
  finding.evidence = std::move(evidence);
  finding.remedy = std::move(remedy);
  return finding;
}

}  // namespace juniper::auditing
