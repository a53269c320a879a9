// A table from Parquet files: the columns that are asked for, row group by row group on several threads.
#pragma once

#include <filesystem>
#include <vector>

#include "source/source.h"

namespace juniper::source {

// As source::read_table; a column is found by its name, one in a structure as "site.city". A value of another type than its
// column's is read as the text that it would be in CSV. Errors beside those: JR-517 (damaged, with row group, column and
// page), JR-518 (of a kind that is not read here: a list, encrypted, LZO). Lines of places are numbers of rows, from 1.
// JR-503 (text that is not UTF-8) and JR-507 go to the rejects where there are any.
Result<TableInput> read_parquet(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                                const ReadSettings& settings);

// As source::locate_rows.
std::vector<Place> locate_parquet_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows);

// The columns that a file has, with the types of their values here, and why one can't be read ("" if it can).
struct ParquetColumn {
  std::string name;
  Type type;
  std::string refusal;
};
// Errors: JR-501, JR-517, JR-518.
Result<std::vector<ParquetColumn>> parquet_columns(const std::filesystem::path& file);

}  // namespace juniper::source
