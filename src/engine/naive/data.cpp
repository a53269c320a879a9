#include "engine/naive/data.h"

namespace juniper::engine::naive {

const std::vector<Value>& StoreData::column(language::ColumnId id) {
  const auto [at, fresh] = columns_.try_emplace(id);
  if (!fresh) return at->second;
  const store::Column& stored = source_.column(id);
  for (std::uint64_t row = 0; row < stored.rows; ++row) at->second.push_back(stored.at(row));
  return at->second;
}

const LinkedRows& StoreData::link(language::LinkIndex index) {
  const auto [at, fresh] = links_.try_emplace(index);
  if (!fresh) return at->second;
  const store::LinkRows rows = source_.link_rows(index);
  for (std::uint64_t row = 0; row < rows.size(); ++row) {
    const std::uint64_t to = rows.at(row);
    at->second.push_back(to == rows.no_row() ? std::nullopt : std::optional(to));
  }
  return at->second;
}

}  // namespace juniper::engine::naive
