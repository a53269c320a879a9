// Columns of facts that have one value for each value of another column: what stands in millions of rows is known from
// a few.
#include <fmt/format.h>

#include <limits>

#include "audit/rules.h"
#include "base/format.h"

namespace juniper::auditing {

using namespace language;

namespace {

constexpr std::uint64_t none = std::numeric_limits<std::uint64_t>::max();

// True if rows that are alike in `by` are alike in `column`.
bool determines(const store::Column& by, const store::Column& column) {
  std::vector<std::uint64_t> value_of(by.null_code + 1, none);
  std::vector<std::uint64_t> keys(store::block_rows);
  std::vector<std::uint64_t> values(store::block_rows);
  for (std::size_t block = 0; block < by.codes.blocks(); ++block) {
    const std::size_t rows = std::min<std::uint64_t>(store::block_rows, by.rows - block * store::block_rows);
    by.codes.decode_block(block, keys.data());
    column.codes.decode_block(block, values.data());
    for (std::size_t i = 0; i < rows; ++i) {
      std::uint64_t& known = value_of[keys[i]];
      if (known == none) known = values[i];
      if (known != values[i]) return false;
    }
  }
  return true;
}

bool leads_on(const CheckedModel& model, ColumnId id) {
  return std::any_of(model.links.begin(), model.links.end(),
                     [&](const Link& link) { return link.from.reads(id) || link.to.reads(id); });
}

}  // namespace

void find_determined_columns(const Subject& subject, Findings& findings) {
  // Each value must stand in so many rows that it is no chance.
  constexpr std::uint64_t rows_each = 20;
  const CheckedModel& model = subject.model();
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    const bool is_dimension = std::any_of(model.links.begin(), model.links.end(),
                                          [&](const Link& link) { return link.to.table == id.table; });
    const bool plain = !column.is_calculated() && !column.from_row && !column.key && !leads_on(model, id);
    if (is_dimension || !plain || data.distinct < 2 || subject.users(id).empty()) return;
    const auto& columns = model.tables[id.table].columns;
    for (std::uint32_t c = 0; c < columns.size(); ++c) {
      const store::Column& by = subject.data({id.table, c});
      if (c == id.column || columns[c].is_calculated() || columns[c].key) continue;
      // Of two that determine each other, the later one is told. A label and what it is sorted by are such a pair.
      const bool tells = by.distinct > data.distinct || (by.distinct == data.distinct && c < id.column);
      const bool pair = column.sorted_by == c || columns[c].sorted_by == id.column;
      if (!tells || pair || by.distinct * rows_each > data.rows || by.null_code > data.rows || !determines(by, data))
        continue;
      findings.push_back(subject.about(
          id,
          fmt::format("each of the {} values of {} goes with one of its {}", base::grouped(by.distinct),
                      columns[c].name, base::grouped(data.distinct)),
          fmt::format("keep it in a table of its own with {} as the key, and a link that leads there", columns[c].name),
          data.bytes()));
      return;
    }
  });
}

}  // namespace juniper::auditing
