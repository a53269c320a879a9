// A table from records with cells of their own types, on several threads.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// As source::read_table. Errors beside those: JR-503 (text that is not UTF-8), and those of the kind. These and JR-507 go
// to the rejects where there are any, as far as a record is at fault.
Result<TableInput> read_records(const RecordKind& kind, const TableRequest& request,
                                const std::vector<std::filesystem::path>& files, const ReadSettings& settings);

// As source::locate_rows.
std::vector<Place> locate_records(const RecordKind& kind, const TableRequest& request,
                                  const std::vector<std::uint64_t>& rows);

// Calls visit(row, cells, number of the row in them) for all rows of a file, with their cells by column of the request;
// records that can't be read are passed over. Errors: as above, but for cells that do not fit.
Result<void> each_record(const RecordKind& kind, const TableRequest& request, const std::filesystem::path& path,
                         const std::function<void(const Cells& cells, std::size_t row, std::uint64_t line)>& visit);

}  // namespace juniper::source
