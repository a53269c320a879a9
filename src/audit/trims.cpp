#include "audit/trims.h"

#include "base/parallel.h"
#include "source/column_input.h"

namespace juniper::auditing {

Trim trim_of(const store::StoredTable& table, const std::vector<std::uint8_t>& used, Saving saving, unsigned threads) {
  Trim trim;
  trim.table = table.name;
  trim.rows = table.rows;
  std::vector<std::uint64_t> rows;
  for (std::uint64_t row = 0; row < table.rows; ++row) {
    if (used[row] != 0) rows.push_back(row);
  }
  trim.used_rows = rows.size();
  std::vector<std::uint64_t> kept(table.columns.size());
  base::parallel_for(table.columns.size(), threads, [&](std::size_t c) {
    if (!table.columns[c].broken.empty()) return;
    const store::Column& column = table.columns[c].data;
    kept[c] = saving == Saving::measured
                  ? store::encode_column(store::chosen_rows(column, rows)).bytes()
                  : static_cast<std::uint64_t>(static_cast<double>(column.bytes()) * static_cast<double>(rows.size()) /
                                               static_cast<double>(table.rows));
  });
  for (std::size_t c = 0; c < table.columns.size(); ++c) {
    const std::uint64_t bytes = table.columns[c].data.bytes();
    trim.bytes += bytes;
    trim.saved_bytes += bytes - std::min(bytes, kept[c]);
  }
  return trim;
}

}  // namespace juniper::auditing
