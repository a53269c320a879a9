#include "exporting/dataset_batches.h"

#include <algorithm>
#include <array>

namespace juniper::exporting {

namespace {

unsigned digits_of(const store::Column& column) {
  const bool is_number = column.type.kind == TypeKind::integer || column.type.kind == TypeKind::decimal;
  if (!is_number || column.least.is_null()) return 0;
  return std::max(writing::digits_of(column.least.exact()), writing::digits_of(column.most.exact()));
}

}  // namespace

std::vector<writing::WrittenColumn> columns_of(const language::Table& table, const store::StoredTable& stored,
                                               const std::vector<std::uint32_t>& columns) {
  std::vector<writing::WrittenColumn> written;
  for (const std::uint32_t c : columns) {
    const language::Column& column = table.columns[c];
    written.push_back({column.name, column.type, column.format, digits_of(stored.columns[c].data)});
  }
  return written;
}

void each_batch(const store::StoredTable& stored, const std::vector<std::uint32_t>& columns,
                const std::function<void(const writing::Batch&)>& write) {
  constexpr std::size_t blocks_of_batch = writing::rows_of_batch / store::block_rows;
  const std::size_t blocks = (stored.rows + store::block_rows - 1) / store::block_rows;
  std::array<std::uint64_t, store::block_rows> codes{};
  writing::Batch batch;
  batch.columns.resize(columns.size());
  for (std::size_t first = 0; first < blocks; first += blocks_of_batch) {
    const std::size_t last = std::min(blocks, first + blocks_of_batch);
    for (std::size_t i = 0; i < columns.size(); ++i) {
      const store::Column& column = stored.columns[columns[i]].data;
      writing::BatchColumn& out = batch.columns[i];
      out.clear();
      for (std::size_t block = first; block < last; ++block) {
        const std::size_t rows = column.codes.rows_in_block(block);
        column.codes.decode_block(block, codes.data());
        for (std::size_t row = 0; row < rows; ++row) {
          const std::uint64_t code = codes[row];
          const bool is_null = code == column.null_code && column.nulls > 0;
          out.is_null.push_back(is_null ? 1 : 0);
          if (column.type.kind == TypeKind::text) {
            out.text.push_back(is_null ? std::string_view() : column.text_of(code));
          } else if (column.type.kind == TypeKind::real) {
            out.real.push_back(is_null ? 0 : column.real_of(code));
          } else {
            out.exact.push_back(is_null ? 0 : column.exact_of(code));
          }
        }
      }
    }
    batch.rows = std::min<std::uint64_t>(stored.rows - first * store::block_rows, writing::rows_of_batch);
    write(batch);
  }
}

}  // namespace juniper::exporting
