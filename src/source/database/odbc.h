// Any database that has an ODBC driver as a source: SQL/CLI (ISO/IEC 9075-3) reaches it.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// The place is a connection string, "DSN=charging" or "Driver=...;Database=...". Numbers, dates and times are read as what
// the driver says that they are, all else as text. Errors: JR-521.
RecordKind odbc_kind();

}  // namespace juniper::source
