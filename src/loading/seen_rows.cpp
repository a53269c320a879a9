#include "loading/seen_rows.h"

#include "engine/query/rows.h"

namespace juniper::loading {

using namespace language;

namespace {

// 1 for each row of a table.
using Marks = std::vector<std::uint8_t>;

// Of the rows from which `path` leads to marked rows.
Marks seen_from(const engine::Source& source, const std::vector<LinkIndex>& path, Marks marks) {
  for (auto link = path.rbegin(); link != path.rend(); ++link) {
    const std::vector<std::uint64_t> rows = source.link_rows(*link).decoded();
    Marks here(rows.size(), 0);
    for (std::size_t i = 0; i < rows.size(); ++i) here[i] = rows[i] < marks.size() ? marks[rows[i]] : 0;
    marks = std::move(here);
  }
  return marks;
}

}  // namespace

Result<SeenRows> seen_rows(const engine::Source& source, const Reader& reader, unsigned threads) {
  const CheckedModel& model = source.model;
  std::vector<std::optional<Marks>> seen(model.tables.size());
  for (const ReaderRows& rows : reader.rows) {
    const auto values = engine::evaluate_rows(source, rows.table, rows.condition, threads);
    if (!values) return tl::unexpected(values.error());
    Marks marks(source.rows(rows.table), 0);
    for (std::size_t i = 0; i < marks.size(); ++i) marks[i] = values->values->is_true(i) ? 1 : 0;
    for (TableIndex t = 0; t < model.tables.size(); ++t) {
      if (model.tables[t].rows) continue;  // made of the rows that are seen
      const auto paths = model.paths(t, rows.table);
      if (paths.empty()) continue;
      const Marks from_here = seen_from(source, paths.front(), marks);
      if (!seen[t]) {
        seen[t] = from_here;
      } else {
        for (std::size_t i = 0; i < from_here.size(); ++i) (*seen[t])[i] &= from_here[i];
      }
    }
  }
  SeenRows result(model.tables.size());
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (!seen[t]) continue;
    std::vector<std::uint64_t>& rows = result[t].emplace();
    for (std::uint64_t row = 0; row < seen[t]->size(); ++row) {
      if ((*seen[t])[row] != 0) rows.push_back(row);
    }
  }
  return result;
}

}  // namespace juniper::loading
