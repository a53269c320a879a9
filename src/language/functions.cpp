#include "language/functions.h"

#include <algorithm>
#include <array>

namespace juniper::language {

namespace {

constexpr std::array functions{
    FunctionEntry{"abs", Function::abs, Signature::number_same, "abs(number)"},
    FunctionEntry{"round", Function::round, Signature::round, "round(number) or round(number, digits)"},
    FunctionEntry{"floor", Function::floor, Signature::whole, "floor(number)"},
    FunctionEntry{"ceil", Function::ceil, Signature::whole, "ceil(number)"},
    FunctionEntry{"trunc", Function::trunc, Signature::whole, "trunc(number)"},
    FunctionEntry{"sign", Function::sign, Signature::number_integer, "sign(number)"},
    FunctionEntry{"sqrt", Function::sqrt, Signature::real_1, "sqrt(number)"},
    FunctionEntry{"exp", Function::exp, Signature::real_1, "exp(number)"},
    FunctionEntry{"ln", Function::ln, Signature::real_1, "ln(number)"},
    FunctionEntry{"power", Function::power, Signature::real_2, "power(number, number)"},
    FunctionEntry{"least", Function::least, Signature::like_terms, "least(a, b, …)"},
    FunctionEntry{"greatest", Function::greatest, Signature::like_terms, "greatest(a, b, …)"},
    FunctionEntry{"coalesce", Function::coalesce, Signature::like_terms, "coalesce(a, b, …)"},
    FunctionEntry{"length", Function::length, Signature::text_integer, "length(text)"},
    FunctionEntry{"upper", Function::upper, Signature::text_text, "upper(text)"},
    FunctionEntry{"lower", Function::lower, Signature::text_text, "lower(text)"},
    FunctionEntry{"trim", Function::trim, Signature::text_text, "trim(text)"},
    FunctionEntry{"substring", Function::substring, Signature::text_substring, "substring(text, from, length)"},
    FunctionEntry{"replace", Function::replace, Signature::text_replace, "replace(text, what, with)"},
    FunctionEntry{"starts_with", Function::starts_with, Signature::text_test, "starts_with(text, start)"},
    FunctionEntry{"ends_with", Function::ends_with, Signature::text_test, "ends_with(text, end)"},
    FunctionEntry{"contains", Function::contains, Signature::text_test, "contains(text, part)"},
    FunctionEntry{"year", Function::year, Signature::date_part, "year(date)"},
    FunctionEntry{"quarter", Function::quarter, Signature::date_part, "quarter(date)"},
    FunctionEntry{"month", Function::month, Signature::date_part, "month(date)"},
    FunctionEntry{"day", Function::day, Signature::date_part, "day(date)"},
    FunctionEntry{"weekday", Function::weekday, Signature::date_part, "weekday(date)"},
    FunctionEntry{"week", Function::week, Signature::date_part, "week(date)"},
    FunctionEntry{"hour", Function::hour, Signature::time_part, "hour(time)"},
    FunctionEntry{"minute", Function::minute, Signature::time_part, "minute(time)"},
    FunctionEntry{"second", Function::second, Signature::time_part, "second(time)"},
    FunctionEntry{"date", Function::date, Signature::to_date, "date(datetime)"},
    FunctionEntry{"time", Function::time, Signature::to_time, "time(datetime)"},
    FunctionEntry{"datetime", Function::datetime, Signature::to_datetime, "datetime(date, time)"},
    FunctionEntry{"add_days", Function::add_days, Signature::date_move, "add_days(date, days)"},
    FunctionEntry{"add_months", Function::add_months, Signature::date_move, "add_months(date, months)"},
    FunctionEntry{"add_years", Function::add_years, Signature::date_move, "add_years(date, years)"},
    FunctionEntry{"days_between", Function::days_between, Signature::dates_integer, "days_between(from, to)"},
    FunctionEntry{"months_between", Function::months_between, Signature::dates_real, "months_between(from, to)"},
    FunctionEntry{"years_between", Function::years_between, Signature::dates_real, "years_between(from, to)"},
    FunctionEntry{"start_of", Function::start_of, Signature::calendar_edge, "start_of(date, unit)"},
    FunctionEntry{"end_of", Function::end_of, Signature::calendar_edge, "end_of(date, unit)"},
    FunctionEntry{"today", Function::today, Signature::no_argument_date, "today()"},
};

}  // namespace

const FunctionEntry* find_function(std::string_view name) {
  const auto* const at =
      std::find_if(functions.begin(), functions.end(), [&](const FunctionEntry& f) { return f.name == name; });
  return at == functions.end() ? nullptr : &*at;
}

std::vector<std::string> function_names() {
  std::vector<std::string> names;
  for (const FunctionEntry& f : functions) names.emplace_back(f.name);
  return names;
}

}  // namespace juniper::language
