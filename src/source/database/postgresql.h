// PostgreSQL as a source: a table, or what a query gives, as the server copies it out in CSV.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// As source::read_table. The place is a connection string or an address, as libpq reads it; passwords come from its files
// and its environment. The transaction reads only, and all tables of a load are of one moment. A time with a zone is read
// in UTC. Errors beside those: JR-521 (no connection, no such table, a statement that can't be run). Places are lines of
// what the server copies out.
Result<TableInput> read_postgresql(const TableRequest& request, const std::vector<std::filesystem::path>& places,
                                   const ReadSettings& settings);

}  // namespace juniper::source
