// JSON (RFC 8259) as a source: an object for each row, one on each line or all in one array.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// A column is a field of the records, found by its name; one of an object within them by its path: "site.city". A field
// that a record does not have is null there, and so is `null`. Objects and arrays are texts: the JSON that they are,
// without blanks. Errors: JR-519 (a record that is no object, is not JSON, or has a field twice), JR-509.
RecordKind json_kind();

}  // namespace juniper::source
