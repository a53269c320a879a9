// Days that a calendar has no row for: what moves in time leaves them out without a word of its own.
#pragma once

#include "juniper/diagnostics.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::engine {

// A warning (JR-525) where the model's calendar lacks days between its first and its last; else nothing.
Diagnostics calendar_gaps(const language::CheckedModel& model, const store::Store& store);

// Whether a query shows or asks for something `during` a period, itself or in what its measures rest on.
bool moves_in_time(const language::CheckedModel& model, const language::Query& query);

}  // namespace juniper::engine
