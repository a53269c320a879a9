// The model and the data that a question is asked of.
#pragma once

#include <cstdint>
#include <optional>

#include "engine/asked/setting.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::engine {

class Watch;

// The model and the data that programs read. Both outlive every program made from them.
struct Source {
  const language::CheckedModel& model;
  const store::Store& store;
  Setting setting;
  unsigned threads = 1;  // that may work at once on what programs look up
  const Watch* watch = nullptr;

  // Throws if the question was called off, or takes too much memory (engine/asked/watch.h).
  void check() const;
  // What is broken throws a base::Failure with JR-706 when it is asked for.
  const store::Column& column(language::ColumnId id) const;
  const store::StoredLink& link(language::LinkIndex index) const;
  store::LinkRows link_rows(language::LinkIndex index) const { return store::link_rows(store, link(index)); }
  std::uint64_t rows(language::TableIndex table) const;
  // The column that settles what is tied: the table's key, or, where its rows were sorted anew, the one that tells the
  // order in which they came. Nothing: they stand in that order.
  std::optional<std::uint32_t> settling_column(language::TableIndex table) const;
};

}  // namespace juniper::engine
