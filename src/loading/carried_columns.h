// Calculated columns that need no computing, as an earlier store holds them already.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "juniper/model.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::loading {

// Compares what a column means in a model with what it meant in the text that an earlier store was made from: its
// expression and those of all that it rests on, the values of parameters, the links, the calendar, and the day where
// today() is read.
class CarriedColumns {
 public:
  // `earlier` may be nothing. The store and the model have to live as long as this.
  CarriedColumns(const language::CheckedModel& model, std::int64_t today, const store::Store* earlier);

  // The column of the earlier store, if it means the same and is whole, and if all tables that it rests on are
  // `unchanged` (one entry for each table: its rows stand as they stood); else nothing.
  const store::StoredColumn* find(language::ColumnId id, const std::vector<bool>& unchanged) const;

 private:
  const language::CheckedModel& model_;
  std::int64_t today_;
  const store::Store* earlier_;
  std::optional<Model> earlier_model_;
  // Columns of the earlier store, by the names of table and column: where they stand there, and in its model.
  std::map<std::pair<std::string, std::string>, std::pair<const store::StoredColumn*, language::ColumnId>> columns_;
};

}  // namespace juniper::loading
