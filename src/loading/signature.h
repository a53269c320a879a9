// Whether a store holds what a model text asks for.
#pragma once

#include <filesystem>
#include <string>

#include "language/checked.h"
#include "source/source.h"
#include "store/store.h"

namespace juniper::loading {

// A fingerprint of everything in a model that decides the bytes of its store: sources, columns with their types, keys,
// calculated columns, links, and the day of today() where a calculated column reads it. Measures, queries, formats and
// layout do not count.
std::string signature(const language::CheckedModel& model, std::int64_t today);

// A fingerprint of what decides the values that a table's source columns hold, given its files.
std::string table_signature(const source::TableRequest& request);

// What to read for a table of the model. Calculated columns are not among its columns.
source::TableRequest table_request(const language::CheckedModel& model, language::TableIndex table);

// The name of a source file in a store: its path as seen from the model's folder, so that both may move together.
std::string source_name(const source::TableRequest& request, const std::filesystem::path& path);

// True if a file of a table is as it was. One whose time or place has changed but whose bytes have not counts as the
// same.
bool is_unchanged(const source::SourceFile& then, const source::TableRequest& request,
                  const std::filesystem::path& path);

// What stored columns read beside sources: fills in the store's parameters and day.
void note_settings(const language::CheckedModel& model, std::int64_t today, store::Store& store);

// Why a store can't answer for the model with its parameters of now and this day; "" if it can.
std::string why_made_otherwise(const store::Store& store, const language::CheckedModel& model, std::int64_t today);

// True if the store was made from a model of this signature and from the source files as they are now.
bool is_fresh(const store::Store& store, const language::CheckedModel& model, const std::string& signature);

}  // namespace juniper::loading
