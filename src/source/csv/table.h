// A table from CSV files, plain or compressed: typed columns ready to be encoded.
#pragma once

#include <filesystem>
#include <functional>
#include <vector>

#include "source/byte_source.h"
#include "source/source.h"

namespace juniper::source {

// As source::read_table, in pieces of a file on several threads; every column is found by its header. Errors beside those:
// JR-502 and JR-509 as CsvPieces and CsvRecords, JR-503 (text that is not UTF-8), JR-506 (a record has more or fewer
// fields than the header). JR-503, 506 and 507 go to the rejects where there are any.
Result<TableInput> read_csv(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                            const ReadSettings& settings);

// The same of whatever gives bytes.
using OpenBytes = std::function<Result<ByteSource>(const std::filesystem::path&)>;
Result<TableInput> read_csv(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                            const ReadSettings& settings, const OpenBytes& open);

// As source::locate_rows.
std::vector<Place> locate_csv_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows);

}  // namespace juniper::source
