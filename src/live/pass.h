// A pass over a live table: a request as statements, and their answers as groups.
#pragma once

#include <cstdint>
#include <functional>
#include <vector>

#include "engine/scan/scan.h"
#include "live/places.h"
#include "live/statement.h"

namespace juniper::live {

// The codes of a key in all rows of an answer, in which it was selected so.
using CodesOf = std::function<std::vector<std::uint64_t>(const engine::ScanKey& key, const Statement::Key& selected,
                                                         const Answer& answer)>;

// Asks all that the request needs, and then calls `coded`, which throws where some codes are of no use: groups are made
// behind it. Throws as LiveTables::scan.
engine::ScanResult ask_pass(const engine::Source& source, Places& places, const engine::ScanRequest& request,
                            const CodesOf& codes_of, const std::function<void()>& coded);

}  // namespace juniper::live
