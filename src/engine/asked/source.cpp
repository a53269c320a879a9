#include "engine/asked/source.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/failure.h"
#include "engine/asked/live_tables.h"
#include "engine/asked/watch.h"

namespace juniper::engine {

namespace {

// Nothing is answered from what a broken link or what rests on one would hold.
[[noreturn]] void cross_broken(const std::string& what, const std::string& reason) {
  throw base::Failure(base::error("JR-706", fmt::format("this needs {}, which is broken: {}", what, reason),
                                  "mend it, or ask for what does not cross it; `juniper links` tells more"));
}

}  // namespace

void Source::check() const {
  if (watch != nullptr) watch->check();
}

void Source::require_rows(language::TableIndex table) const {
  if (is_live(table)) throw RowsNeeded{table};
}

bool Source::is_live(language::TableIndex table) const {
  return live != nullptr && model.tables[table].is_live() && !live->is_fetched(table);
}

const store::Column& Source::column(language::ColumnId id) const {
  if (live != nullptr && is_live(id.table)) return live->column(id);
  const store::StoredColumn& stored = store.tables[id.table].columns[id.column];
  if (!stored.broken.empty()) cross_broken(model.column_name(id), stored.broken);
  return stored.data;
}

const store::StoredLink& Source::link(language::LinkIndex index) const {
  require_rows(model.links[index].to.table);
  const store::StoredLink& stored = store.links[index];
  if (!stored.broken.empty()) cross_broken("the link " + stored.name, stored.broken);
  return stored;
}

std::optional<std::uint32_t> Source::settling_column(language::TableIndex table) const {
  const auto& columns = model.tables[table].columns;
  const auto key = std::find_if(columns.begin(), columns.end(), [](const language::Column& c) { return c.key; });
  if (key != columns.end()) return static_cast<std::uint32_t>(key - columns.begin());
  const std::uint64_t place = store.tables[table].file_order;
  return place == store::no_column ? std::nullopt : std::optional(static_cast<std::uint32_t>(place));
}

std::uint64_t Source::rows(language::TableIndex table) const {
  const store::StoredTable& stored = store.tables[table];
  if (!stored.broken.empty()) cross_broken("the table " + stored.name, stored.broken);
  return stored.rows;
}

}  // namespace juniper::engine
