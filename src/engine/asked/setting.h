// What is fixed for the whole of a question.
#pragma once

#include <cstdint>

namespace juniper::engine {

struct Setting {
  std::int64_t today = 0;  // the day of today(), in days since 1970-01-01
};

}  // namespace juniper::engine
