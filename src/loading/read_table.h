// The rows of a table: from its source files, or from an earlier store that was made from the same files.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "source/column_input.h"
#include "source/source.h"
#include "store/store.h"

namespace juniper::loading {

struct ReadTable {
  std::uint64_t rows = 0;
  std::uint64_t bytes = 0;       // of all its files
  std::uint64_t files_read = 0;  // of them; the rows of the others come from the earlier store
  std::vector<source::SourceFile> sources;
  // Its columns, in the order of the request, to be encoded; or those of the earlier store, where no file has changed.
  std::vector<source::ColumnInput> columns;
  std::shared_ptr<const store::StoredTable> unchanged;
};

// Reads the files of a table that `earlier`, which may be nothing, does not hold as they are now, and takes the rows of
// the others from there. `signature` is that of the table (loading/signature.h). `order`: how the rows of an earlier
// store may stand beside as in the files (StoredTable::order); nothing where any order will do. Errors: as find_files
// and source::read_table.
Result<ReadTable> read_table(const source::TableRequest& request, const std::string& signature,
                             const store::Store* earlier, const std::optional<std::string>& order,
                             const source::ReadSettings& settings);

}  // namespace juniper::loading
