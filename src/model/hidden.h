// What the reader as whom a model is asked may not ask for.
#pragma once

#include "juniper/diagnostics.h"
#include "language/checked.h"

namespace juniper::model {

// The reader of that name becomes the one who asks; saved queries that name what is hidden from it are taken out
// of the model (CheckedModel::not_for_reader).
// Errors: JR-223 (no such reader).
Result<void> act_as(language::CheckedModel& model, const std::string& reader);

// What is hidden from the reader and named by a query, or by a measure that stands in no file of the model (JR-222). What
// a measure of the model rests on may be hidden: the reader sees its value.
Diagnostics hidden_mentions(const language::CheckedModel& model, const language::Query& query);

// What is hidden and an expression rests on, through all measures.
Diagnostics hidden_below(const language::CheckedModel& model, const language::NodePtr& node);

// Whether a column is hidden from the reader who asks.
bool is_hidden(const language::CheckedModel& model, language::ColumnId column);

// An error (JR-223) where a reader asks for what shows whatever columns hold, hidden ones as well.
Result<void> for_everybody(const language::CheckedModel& model, const char* what);

}  // namespace juniper::model
