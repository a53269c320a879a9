// How well the links of a model fit its data.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/dataset.h"

namespace juniper {

// A key of the many side that no row of the one side has.
struct OrphanKey {
  std::string key;         // its exact text
  std::uint64_t rows = 0;  // of the many side that carry it
};

struct LinkUse {
  std::string link;
  std::uint64_t many_rows = 0;
  std::uint64_t many_keys = 0;  // distinct keys other than null on the many side
  std::uint64_t null_rows = 0;  // rows of the many side without a key
  std::uint64_t one_rows = 0;   // and distinct keys: the one side's key is unique
  std::uint64_t used_rows = 0;  // of the one side, that some row of the many side leads to
  std::uint64_t unused_rows() const { return one_rows - used_rows; }
  std::uint64_t orphan_keys = 0;   // distinct
  std::uint64_t orphan_rows = 0;   // rows of the many side with such a key
  std::vector<OrphanKey> samples;  // the orphan keys with the most rows, at most `samples` of them
  std::uint64_t bytes = 0;         // of the link in the store
};

// Looks at every link of a dataset, in the order of the model. Errors: JR-605 (the store is damaged).
Result<std::vector<LinkUse>> links(const Dataset& dataset, std::size_t samples = 5);

}  // namespace juniper
