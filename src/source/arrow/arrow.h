// Arrow's interprocess format as a source: files and streams.
#pragma once

#include "source/records/record_source.h"

namespace juniper::source {

// A column is a field, found by its name; one in a structure by its path: "site.city". Dictionaries (also ones that are
// replaced or grow), and buffers compressed by LZ4 or zstd, are read. Errors: JR-524 (damaged, or no such file), JR-518 (of a
// kind that is not read here: lists, maps, unions).
RecordKind arrow_kind();

}  // namespace juniper::source
