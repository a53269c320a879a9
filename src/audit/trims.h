// What leaving the unused rows of a dimension out would save.
#pragma once

#include <vector>

#include "juniper/links.h"
#include "store/store.h"

namespace juniper::auditing {

enum class Saving : std::uint8_t {
  measured,   // by encoding the used rows alone
  estimated,  // as the part of the rows that go
};

// `used`: 1 for each row of the table that some link leads to.
Trim trim_of(const store::StoredTable& table, const std::vector<std::uint8_t>& used, Saving saving, unsigned threads);

}  // namespace juniper::auditing
