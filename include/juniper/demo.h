// The demo: a made-up network of charging points, generated.
#pragma once

#include <cstdint>
#include <string>

#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

struct DemoOptions {
  std::uint64_t sessions = 100'000;  // rows of the fact; everything else is scaled to it
  std::uint64_t seed = 7;
};

// Writes charging.ridge and data/*.csv into `directory`, which is made when it is not there. The same options give the
// same bytes on every machine. What is wrong with the data and the model on purpose is listed in demo/flaws.md.
// Errors: JR-002 (cannot write), JR-004 (the directory holds files, and no charging.ridge among them).
Result<void> write_demo(const std::string& directory, const DemoOptions& options = {});

}  // namespace juniper
