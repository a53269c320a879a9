// Whether a store holds what a model text asks for.
#pragma once

#include <filesystem>
#include <string>

#include "language/checked.h"
#include "source/csv_table.h"
#include "store/store.h"

namespace juniper::loading {

// A fingerprint of everything in a model that decides the bytes of its store: sources, columns with their types, keys,
// calculated columns, links, and the day of today() where a calculated column reads it. Measures, queries, formats and
// layout do not count.
std::string signature(const language::CheckedModel& model, std::int64_t today);

// A fingerprint of what decides the values that a table's source columns hold, given its files.
std::string table_signature(const source::TableRequest& request);

// True if a file is as it was. One whose time has changed but whose bytes have not counts as the same.
bool is_unchanged(const source::SourceFile& then, const std::filesystem::path& path);

// What to read for a table of the model. Calculated columns are not among its columns.
source::TableRequest table_request(const language::CheckedModel& model, language::TableIndex table);

// True if the store was made from a model of this signature and from the source files as they are now.
bool is_fresh(const store::Store& store, const language::CheckedModel& model, const std::string& signature);

}  // namespace juniper::loading
