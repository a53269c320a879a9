#include "loading/verify_meaning.h"

#include <fmt/format.h>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "store/resolve_link.h"

namespace juniper::loading {

namespace {

using namespace language;

[[noreturn]] void fail(const std::string& what) {
  throw base::Failure(base::error("JR-605", "the store is damaged: " + what,
                                  "load it again from the model text: juniper load --again"));
}

void verify_key(const CheckedModel& model, ColumnId id, const store::Column& key) {
  if (key.distinct + key.nulls != key.rows) fail(fmt::format("values of the key {} repeat", model.column_name(id)));
}

void verify_link(const CheckedModel& model, const store::Store& store, const Link& link,
                 const store::StoredLink& stored) {
  const auto columns_of = [&](const LinkEnd& end) {
    std::vector<const store::Column*> columns;
    for (const std::uint32_t c : end.columns) columns.push_back(&store.tables[end.table].columns[c].data);
    return columns;
  };
  const auto to = columns_of(link.to);
  if (repeated_key(to)) fail(fmt::format("link {} leads to keys that repeat", stored.name));
  const auto from = columns_of(link.from);
  const store::StoredLink resolved = resolve_link(from, to);
  if (resolved.unmatched != stored.unmatched)
    fail(fmt::format("link {} has {} rows without a match, and says {}", stored.name, resolved.unmatched,
                     stored.unmatched));
  std::vector<std::uint64_t> there(store::block_rows);
  std::vector<std::uint64_t> expected(store::block_rows);
  store::LinkRows rows(stored, *from[0]);
  store::LinkRows expected_rows(resolved, *from[0]);
  for (std::size_t block = 0; block < rows.blocks(); ++block) {
    rows.decode_block(block, there.data());
    expected_rows.decode_block(block, expected.data());
    if (!std::equal(there.begin(), there.begin() + static_cast<std::ptrdiff_t>(rows.rows_in_block(block)),
                    expected.begin()))
      fail(fmt::format("link {} leads to other rows of {} than its keys do", stored.name,
                       model.tables[link.to.table].name));
  }
}

}  // namespace

void verify_meaning(const CheckedModel& model, const store::Store& store, unsigned threads) {
  std::vector<ColumnId> columns;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) columns.push_back({t, c});
  }
  base::parallel_for(columns.size() + store.links.size(), threads, [&](std::size_t i) {
    if (i >= columns.size()) {
      const LinkIndex link = static_cast<LinkIndex>(i - columns.size());
      if (store.links[link].broken.empty()) verify_link(model, store, model.links[link], store.links[link]);
      return;
    }
    const ColumnId id = columns[i];
    const store::Column& column = store.tables[id.table].columns[id.column].data;
    if (!column.says_true()) fail(fmt::format("column {} has other values than it says", model.column_name(id)));
    if (model.column(id).key) verify_key(model, id, column);
  });
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (const TableKey& key : model.tables[t].keys) {
      // Where a link leads to a key that repeats, the link is broken and the store stands.
      const bool is_linked = std::any_of(model.links.begin(), model.links.end(), [&](const Link& link) {
        return link.to.table == t && link.to.columns == key.columns;
      });
      if (!is_linked && store.tables[t].rows != 0 && !names_rows(store.tables[t], key.columns))
        fail(fmt::format("a key of several columns of {} repeats", model.tables[t].name));
    }
  }
}

}  // namespace juniper::loading
