// What an output may take the place of.
#pragma once

#include <cstdint>

namespace [[gnu::visibility("default")]] juniper {

// A file of its own kind, which its first bytes tell, or whatever its name leads to.
enum class Overwrite : std::uint8_t { own_kind, anything };

}  // namespace juniper
