// Texts that conversions could not read: they give null, and whoever asks is told how many there are.
#pragma once

#include "engine/asked/source.h"
#include "juniper/diagnostics.h"

namespace juniper::engine {

// A warning (JR-526) for each conversion in a query, and in the measures that it rests on, that some row's text has no
// value for: how many rows under the query's `where`, and one of the texts. Only of texts that are computed from columns
// of one row.
Diagnostics unread_texts(const Source& source, const language::Query& query, unsigned threads);

// The same of all calculated columns, over all rows.
Diagnostics unread_texts(const Source& source, unsigned threads);

}  // namespace juniper::engine
