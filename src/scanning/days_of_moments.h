// The days of datetimes, by which a table is linked to a calendar.
#pragma once

#include "scanning/found_table.h"

namespace juniper::scanning {

// Adds a column of days to a table for each of its datetimes whose days stand in the calendar for at least half of the rows
// that have one, unless the table has a column of such days. `calendar` is the column of days there.
void add_days_of_moments(FoundTable& table, const store::Column& calendar);

}  // namespace juniper::scanning
