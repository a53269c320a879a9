#include "engine/vector/operations/operation.h"

#include <cstdlib>
#include <limits>

#include "base/calendar.h"
#include "engine/vector/operations/kernels.h"

namespace juniper::engine {

using language::Function;
using language::Node;
using language::Op;

namespace {

// A text has fewer characters than any machine has bytes.
constexpr std::int64_t most_characters = std::int64_t{1} << 48;
// What a text may hold of an exact number.
constexpr std::int64_t least_stored = std::numeric_limits<std::int64_t>::min();
constexpr std::int64_t most_stored = std::numeric_limits<std::int64_t>::max();
// Of dates in the years 1 to 9999.
constexpr std::int64_t most_days = 366 * std::int64_t{base::last_year};

Operation of_call(Function function) {
  using namespace kernels;
  using namespace ranges;
  switch (function) {
    case Function::abs:
      return {kernels::abs, magnitude, Operands::as_result};
    case Function::round:
      return {kernels::round, rounded, Operands::as_result};
    case Function::floor:
      return {kernels::floor, rounded, Operands::as_result};
    case Function::ceil:
      return {kernels::ceil, rounded, Operands::as_result};
    case Function::trunc:
      return {kernels::trunc, rounded, Operands::as_result};
    case Function::sign:
      return {sign, within<-1, 1>, Operands::any};
    case Function::sqrt:
      return {kernels::sqrt, of_type, Operands::alike};
    case Function::exp:
      return {kernels::exp, of_type, Operands::alike};
    case Function::ln:
      return {ln, of_type, Operands::alike};
    case Function::power:
      return {power, of_type, Operands::alike};
    case Function::least:
      return {least, one_of, Operands::as_result};
    case Function::greatest:
      return {greatest, one_of, Operands::as_result};
    case Function::coalesce:
      return {coalesce, one_of, Operands::as_result};
    case Function::length:
      return {length, within<0, most_characters>, Operands::narrow};
    case Function::upper:
      return {upper, of_type, Operands::narrow};
    case Function::lower:
      return {lower, of_type, Operands::narrow};
    case Function::trim:
      return {trim, of_type, Operands::narrow};
    case Function::substring:
      return {substring, of_type, Operands::narrow};
    case Function::replace:
      return {replace, of_type, Operands::narrow};
    case Function::starts_with:
      return {starts_with, of_type, Operands::narrow};
    case Function::ends_with:
      return {ends_with, of_type, Operands::narrow};
    case Function::contains:
      return {contains, of_type, Operands::narrow};
    case Function::year:
      return {year, within<base::first_year, base::last_year>, Operands::narrow};
    case Function::quarter:
      return {quarter, within<1, 4>, Operands::narrow};
    case Function::month:
      return {month, within<1, 12>, Operands::narrow};
    case Function::day:
      return {day, within<1, 31>, Operands::narrow};
    case Function::weekday:
      return {weekday, within<1, 7>, Operands::narrow};
    case Function::week:
      return {week, within<1, 53>, Operands::narrow};
    case Function::hour:
      return {hour, within<0, 23>, Operands::narrow};
    case Function::minute:
      return {minute, within<0, 59>, Operands::narrow};
    case Function::second:
      return {second, within<0, 59>, Operands::narrow};
    case Function::date:
      return {date, of_type, Operands::narrow};
    case Function::time:
      return {kernels::time, of_type, Operands::narrow};
    case Function::datetime:
      return {datetime, of_type, Operands::narrow};
    case Function::add_days:
      return {add_days, of_type, Operands::narrow};
    case Function::add_months:
      return {add_months, of_type, Operands::narrow};
    case Function::add_years:
      return {add_years, of_type, Operands::narrow};
    case Function::days_between:
      return {days_between, within<-most_days, most_days>, Operands::narrow};
    case Function::months_between:
      return {months_between, of_type, Operands::narrow};
    case Function::years_between:
      return {years_between, of_type, Operands::narrow};
    case Function::start_of:
      return {start_of, of_type, Operands::narrow};
    case Function::end_of:
      return {end_of, of_type, Operands::narrow};
    case Function::today:
      return {today, of_type, Operands::narrow};
    case Function::text:
      return {kernels::text, of_type, Operands::any};
    case Function::integer_from:
      return {integer_from, within<least_stored, most_stored>, Operands::any};
    case Function::decimal_from:
      return {decimal_from, within<least_stored, most_stored>, Operands::any};
    case Function::real_from:
      return {real_from, of_type, Operands::any};
    case Function::date_from:
      return {date_from, of_type, Operands::any};
    case Function::datetime_from:
      return {datetime_from, of_type, Operands::any};
  }
  std::abort();
}

}  // namespace

Operation operation_of(const Node& node) {
  using namespace kernels;
  using namespace ranges;
  switch (node.op) {
    case Op::add:
      return {add, sum, Operands::as_result};
    case Op::subtract:
      return {subtract, difference, Operands::as_result};
    case Op::multiply:
      return {multiply, product, Operands::as_result};
    case Op::divide:
      return {divide, of_type, Operands::alike};
    case Op::int_divide:
      return {int_divide, same_sign, Operands::as_result};
    case Op::modulo:
      return {modulo, same_sign, Operands::as_result};
    case Op::negate:
      return {kernels::negate, negative, Operands::as_result};
    case Op::equal:
      return {equal, of_type, Operands::alike};
    case Op::not_equal:
      return {not_equal, of_type, Operands::alike};
    case Op::less:
      return {less, of_type, Operands::alike};
    case Op::less_equal:
      return {less_equal, of_type, Operands::alike};
    case Op::is_distinct:
      return {is_distinct, of_type, Operands::alike};
    case Op::in:
      return {in, of_type, Operands::alike};
    case Op::like:
      return {like, of_type, Operands::alike};
    case Op::and_:
      return {and_, of_type, Operands::alike};
    case Op::or_:
      return {or_, of_type, Operands::alike};
    case Op::not_:
      return {not_, of_type, Operands::alike};
    case Op::is_null:
      return {is_null, of_type, Operands::any};
    case Op::concat:
      return {concat, of_type, Operands::alike};
    case Op::cases:
      return {cases, value_of_cases, Operands::as_result};
    case Op::rescale:
      return {rescale, rescaled, Operands::as_result};
    case Op::to_real:
      return {to_real, of_type, Operands::any};
    case Op::call:
      return of_call(node.function);
    case Op::literal:
    case Op::column:
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
      break;  // leaves: the program reads them
  }
  std::abort();
}

}  // namespace juniper::engine
