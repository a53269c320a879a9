#include "base/failure.h"

namespace juniper::base {

Diagnostics refused(const std::string& what) {
  return error(
      "JR-005", "the system refused: " + what,
      "ask for less at once, use fewer --threads, allow more by --memory where it was limited, or end other programs");
}

}  // namespace juniper::base
