// The model and the data that a question is asked of.
#pragma once

#include <cstdint>
#include <optional>

#include "engine/asked/setting.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::engine {

class LiveTables;
class Watch;

// The model and the data that programs read. Both outlive every program made from them.
struct Source {
  const language::CheckedModel& model;
  const store::Store& store;
  Setting setting;
  unsigned threads = 1;  // that may work at once on what programs look up
  const Watch* watch = nullptr;
  LiveTables* live = nullptr;  // where some of the tables are

  // Throws if the question was called off, or takes too much memory (engine/asked/watch.h).
  void check() const;
  // What is broken throws a base::Failure with JR-706 when it is asked for.
  const store::Column& column(language::ColumnId id) const;
  const store::StoredLink& link(language::LinkIndex index) const;
  store::LinkRows link_rows(language::LinkIndex index) const { return store::link_rows(store, link(index)); }
  // Of a live table 0: nobody has counted them.
  std::uint64_t rows(language::TableIndex table) const;
  // Whether a table's rows are elsewhere: it is live, and no question has fetched it.
  bool is_live(language::TableIndex table) const;
  // For whoever reads a table's rows one by one. Throws RowsNeeded where they are elsewhere.
  void require_rows(language::TableIndex table) const;
  // The column that settles what is tied: the table's key, or, where its rows were sorted anew, the one that tells the
  // order in which they came. Nothing: they stand in that order.
  std::optional<std::uint32_t> settling_column(language::TableIndex table) const;
};

}  // namespace juniper::engine
