// A calendar that the text asks for instead of reading it: its columns, written as the expressions that they are.
#pragma once

#include <string>
#include <vector>

#include "base/calendar_names.h"
#include "language/syntax.h"

namespace juniper::language::syntax {

struct EveryDay {
  Span span;
  base::CalendarNames names;
  int business_month = 0;  // the month in which a business year begins; 0 for none
};

// The set of rows of the table: `days`, whose rows have a `day`, with the other columns.
RowsPtr with_calendar_columns(RowsPtr days, const EveryDay& every_day);

// Its declaration as the model's calendar. All columns but the weekday are periods.
Calendar calendar_of(const Name& table, const EveryDay& every_day);

// The column that a column of such a table is sorted by; "" if it is by itself.
std::string sorted_by(const std::string& column);

}  // namespace juniper::language::syntax
