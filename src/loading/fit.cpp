#include "loading/fit.h"

#include <fmt/format.h>

#include <string>

#include "base/diagnostics.h"

namespace juniper::loading {

namespace {

using namespace language;

// What is not as the model says; "" if nothing is.
std::string misfit(const CheckedModel& model, const store::Store& store) {
  if (store.tables.size() != model.tables.size() || store.links.size() != model.links.size()) {
    return fmt::format("{} tables and {} links, where its text has {} and {}", store.tables.size(), store.links.size(),
                       model.tables.size(), model.links.size());
  }
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const Table& table = model.tables[t];
    const store::StoredTable& stored = store.tables[t];
    if (stored.name != table.name || stored.columns.size() != table.columns.size()) {
      return fmt::format("table {} with {} columns, where its text has {} with {}", stored.name, stored.columns.size(),
                         table.name, table.columns.size());
    }
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      const store::StoredColumn& column = stored.columns[c];
      const bool is_computed = table.columns[c].is_calculated() || table.rows;
      if (column.name != table.columns[c].name || column.data.type != table.columns[c].type ||
          column.calculated != is_computed) {
        return fmt::format("column {}.{} of {}, where its text has {} of {}", table.name, column.name,
                           to_string(column.data.type), table.columns[c].name, to_string(table.columns[c].type));
      }
      const bool is_empty = !column.broken.empty() || !stored.broken.empty();
      if (column.data.rows != (is_empty ? 0 : stored.rows))
        return fmt::format("{} rows of column {}.{}, whose table has {}", column.data.rows, table.name, column.name,
                           stored.rows);
    }
  }
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    const Link& link = model.links[i];
    const store::StoredLink& stored = store.links[i];
    if (stored.name != model.link_name(link))
      return fmt::format("link {}, where its text has {}", stored.name, model.link_name(link));
    if (!stored.broken.empty()) continue;
    if (stored.table != link.from.table || stored.column != link.from.columns[0] ||
        (stored.reads_key() && link.from.columns.size() != 1))
      return fmt::format("link {} from another column than in its text", stored.name);
    const std::uint64_t from = store::link_rows(store, stored).size();
    const std::uint64_t rows = store.tables[link.from.table].rows;
    const std::uint64_t targets = store.tables[link.to.table].rows;
    if (from != rows || stored.no_row != targets) {
      return fmt::format("link {} from {} rows to {}, where its tables have {} and {}", stored.name, from,
                         stored.no_row, rows, targets);
    }
  }
  return "";
}

}  // namespace

Result<store::Store> fitting(store::Store store, const CheckedModel& model, const std::filesystem::path& path) {
  const std::string differs = misfit(model, store);
  if (differs.empty()) return store;
  return tl::unexpected(base::error("JR-605",
                                    fmt::format("{}: the store is damaged: it holds {}", path.string(), differs),
                                    "load it again from the model text: juniper load"));
}

}  // namespace juniper::loading
