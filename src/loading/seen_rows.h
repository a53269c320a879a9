// Which rows a reader sees.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "engine/asked/source.h"
#include "juniper/diagnostics.h"

namespace juniper::loading {

// Of each table, the rows that the reader sees, ascending; nothing where these are all. A row is seen if the conditions on
// its own table hold for it, and those on every table that it leads to, many to one, for the row there: one that leads to
// none is not seen. Links with a role are not followed. `source`: everybody's data. Errors: JR-701 (a number that does not
// fit), JR-706 (what is broken).
using SeenRows = std::vector<std::optional<std::vector<std::uint64_t>>>;
Result<SeenRows> seen_rows(const engine::Source& source, const language::Reader& reader, unsigned threads);

}  // namespace juniper::loading
