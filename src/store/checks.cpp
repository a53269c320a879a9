#include "store/checks.h"

#include <fmt/format.h>

#include "base/failure.h"
#include "base/xxhash.h"

namespace juniper::store {

std::uint64_t hash_bytes(std::span<const std::byte> bytes) {
  return XXH3_64bits(bytes.data(), bytes.size());
}

void Checks::fail(const std::string& how) const {
  throw base::Failure(base::error("JR-605", fmt::format("the store is damaged: {}: {}", what_, how),
                                  "load it again from the model text: juniper load --again"));
}

}  // namespace juniper::store
