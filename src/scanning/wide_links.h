// Links over several columns, where no column alone tells the rows of the one side apart.
#pragma once

#include <optional>
#include <utility>
#include <vector>

#include "scanning/found_table.h"

namespace juniper::scanning {

struct WideLink {
  std::vector<std::pair<std::size_t, std::size_t>> columns;  // of the many side, and of the one side
  std::uint64_t keys = 0;                                    // rows of the many side with a value in all of them
  std::uint64_t matched = 0;                                 // of them
};

// The fewest columns of the same names and types in both tables, two or three, that tell the rows of `to` apart, and that
// at least half of the rows of `from` are found by; nothing where there are none.
std::optional<WideLink> find_wide_link(const FoundTable& from, const FoundTable& to);

}  // namespace juniper::scanning
