// Spreadsheets as a source: a sheet of a workbook, below its row of headers.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// The first row that holds all headers that are asked for is that of the headers; what stands above it is passed over, and
// so are rows in which nothing stands. A sheet need not be named where a workbook shows one alone. Numbers are read as
// spreadsheets show them, with 15 digits; for a real, with all. Errors: JR-520.
RecordKind xlsx_kind();
RecordKind ods_kind();

// Which of the two kinds an archive is, by its parts; xlsx where it is none of them.
base::SourceKind spreadsheet_kind(const std::filesystem::path& path);

// The names of the sheets that are shown. Errors: JR-501, JR-520.
Result<std::vector<std::string>> sheet_names(base::SourceKind kind, const std::filesystem::path& path);

}  // namespace juniper::source
