// Units of the calendar.
#pragma once

#include <cstdint>

namespace juniper::base {

enum class Unit : std::uint8_t { day, week, month, quarter, year };

}  // namespace juniper::base
