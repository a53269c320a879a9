// The rows of a stored table as batches for writers.
#pragma once

#include <functional>
#include <vector>

#include "language/checked.h"
#include "store/store.h"
#include "writing/table_writer.h"

namespace juniper::exporting {

// Some columns of a table, by their numbers, with the digits of their largest numbers.
std::vector<writing::WrittenColumn> columns_of(const language::Table& table, const store::StoredTable& stored,
                                               const std::vector<std::uint32_t>& columns);

// Calls write(batch) for these columns of all rows, in their order. Throws a base::Failure where the store is damaged.
void each_batch(const store::StoredTable& stored, const std::vector<std::uint32_t>& columns,
                const std::function<void(const writing::Batch&)>& write);

}  // namespace juniper::exporting
