#include "audit/rules.h"

#include <fmt/format.h>

#include <array>

#include "language/lexer.h"
#include "source/column_input.h"

namespace juniper::auditing {

using namespace language;

namespace {

constexpr std::array<Rule, 27> all_rules{{
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
    {"JA-107", "a calculated column that is only aggregated or grouped by",
     "measures and keys of queries can compute it row by row, and nothing is stored", find_inlinable_columns},
    {"JA-108", "a timestamp that takes fewer bytes as date and time of day",
     "dates and times of day are few, their combinations many", find_timestamps_to_split},
    {"JA-109", "a number with more digits than its measures show",
     "digits that nobody sees can be most of what it takes", find_excess_digits},
    {"JA-110", "a column that another one determines", "it could stand once for each value of the other, behind a link",
     find_determined_columns},
    {"JA-111", "a concatenated key", "a link over several columns needs none, and what is put together is large",
     find_concatenated_keys},
    {"JA-112", "a calculated column that walks the many side", "a measure gives the same, and follows the slice",
     find_walks_to_many},
    {"JA-113", "a calculated column whose cost grows with the square of the rows",
     "ten times the rows take a hundred times as long to load", find_quadratic_columns},
    {"JA-114", "an order of rows in which the table takes fewer bytes", "runs and near values come from sorting",
     find_smaller_orders},
    {"JA-201", "a dimension of which links use a small part",
     "rows that nothing leads to cost bytes, and show up in lists to choose from", find_oversized_dimensions},
    {"JA-301", "a measure that nothing uses", "nobody checks it, and everybody reads past it", find_unused_measures},
    {"JA-302", "two measures that are the same", "one of them will be changed, and the other forgotten",
     find_equal_measures},
    {"JA-303", "a product of totals", "the total of the products is another number", find_products_of_totals},
    {"JA-304", "a ratio of each row that is added up or averaged",
     "small rows weigh as much as large ones; the ratio of the sums is another number", find_aggregated_ratios},
    {"JA-305", "an average of averages", "small groups weigh as much as large ones", find_averages_of_averages},
    {"JA-306", "a division that meets zero",
     "it gives null, and what is null is left out of sums and averages in silence", find_divisions_by_zero},
    {"JA-307", "a filter that no row passes", "a value that is not there, or is written otherwise",
     find_filters_of_nothing},
    {"JA-308", "a constant written into several measures", "one of them will be changed, and the others forgotten",
     find_repeated_constants},
    {"JA-309", "a count of texts that are put together to be counted",
     "each row's text is made to be compared; combinations of columns are counted by their codes", find_counted_texts},
    {"JA-310", "a calendar that lacks days", "periods leave them out, and what happened on them", find_calendar_gaps},
    {"JA-311", "a reader who sees all rows, or none",
     "a condition that hides nothing protects nothing, and one that hides "
     "everything is mostly a value that is not there",
     find_idle_readers},
    {"JA-312", "measures of one shape",
     "one of them will be changed, and the others forgotten; a function says it once", find_repeated_shapes},
}};

}  // namespace

std::span<const Rule> rules() {
  return all_rules;
}

std::string step_name(const CheckedModel& model, ColumnId id) {
  return written_name(model.tables[id.table].name) + "." + written_name(model.column(id).name);
}

Subject::Subject(const Dataset& dataset, bool fast)
    : dataset_(dataset), fast_(fast), uses_(model::checked(dataset.model())) {}

store::Column Subject::sampled(ColumnId id) const {
  const store::Column& column = data(id);
  if (!is_sampled(id)) return column;
  // Stretches of whole blocks, spread over the table.
  constexpr std::uint64_t stretches = sample_rows / store::block_rows;
  std::vector<std::uint64_t> rows;
  for (std::uint64_t s = 0; s < stretches; ++s) {
    const std::uint64_t begin = (column.rows - store::block_rows) * s / (stretches - 1);
    for (std::uint64_t row = begin; row < begin + store::block_rows; ++row) rows.push_back(row);
  }
  return store::encode_column(store::chosen_rows(column, rows));
}

std::uint64_t Subject::whole_bytes(ColumnId id, const store::Column& made) const {
  if (!is_sampled(id)) return made.bytes();
  // Codes are as many as rows; of a dictionary's values, the sample has met most, or is as far from that as the rows.
  const double rows = static_cast<double>(data(id).rows) / static_cast<double>(sample_rows);
  const std::uint64_t codes = made.codes.bytes().size();
  const bool met_most = made.distinct * 4 < sample_rows;
  return static_cast<std::uint64_t>(static_cast<double>(codes) * rows +
                                    static_cast<double>(made.bytes() - codes) * (met_most ? 1 : rows));
}

const NodePtr& Subject::defined(const NodePtr& node) const {
  return node->op == Op::measure ? defined(model().measures[node->measure].expression) : node;
}

Finding Subject::with_step(Finding finding, const std::string& step) const {
  finding.step = step;
  finding.remedy = fmt::format("juniper refactor {} {}", dataset_.model().path(), step);
  return finding;
}

Finding Subject::about(ColumnId id, std::string evidence, std::string remedy,
                       std::optional<std::uint64_t> saved_bytes) const {
  Finding finding =
      about(model().column_name(id), model().column(id).name_span, std::move(evidence), std::move(remedy));
  finding.saved_bytes = saved_bytes;
  if (saved_bytes) finding.saved_by_column[finding.subject] = *saved_bytes;
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
