// The kernels that operations are made of; see Operation for what they take.
#pragma once

#include "engine/vector/operations/operation.h"

namespace juniper::engine::kernels {

// numbers.cpp
Kernel add, subtract, multiply, divide, int_divide, modulo, negate, rescale, to_real;
Kernel abs, round, floor, ceil, trunc, sign, sqrt, exp, ln, power;
// logic.cpp
Kernel equal, not_equal, less, less_equal, is_distinct, in, and_, or_, not_, is_null, cases, coalesce, least, greatest;
// texts.cpp
Kernel concat, like, length, upper, lower, trim, substring, replace, starts_with, ends_with, contains;
// conversions.cpp
Kernel text, integer_from, decimal_from, real_from, date_from, datetime_from;
// dates.cpp
Kernel year, quarter, month, day, weekday, week, hour, minute, second, date, time, datetime;
Kernel add_days, add_months, add_years, days_between, months_between, years_between, start_of, end_of, today;

}  // namespace juniper::engine::kernels
