#include "language/operations.h"

#include <algorithm>
#include <array>
#include <cstdlib>

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
    FunctionEntry{"date", Function::date, Signature::to_date,
                  "date(datetime), date(text) or date(text, \"dd.MM.yyyy\")"},
    FunctionEntry{"time", Function::time, Signature::to_time, "time(datetime)"},
    FunctionEntry{"datetime", Function::datetime, Signature::to_datetime,
                  "datetime(date, time), datetime(text) or datetime(text, \"dd.MM.yyyy HH:mm\")"},
    FunctionEntry{"add_days", Function::add_days, Signature::date_move, "add_days(date, days)"},
    FunctionEntry{"add_months", Function::add_months, Signature::date_move, "add_months(date, months)"},
    FunctionEntry{"add_years", Function::add_years, Signature::date_move, "add_years(date, years)"},
    FunctionEntry{"days_between", Function::days_between, Signature::dates_integer, "days_between(from, to)"},
    FunctionEntry{"months_between", Function::months_between, Signature::dates_real, "months_between(from, to)"},
    FunctionEntry{"years_between", Function::years_between, Signature::dates_real, "years_between(from, to)"},
    FunctionEntry{"start_of", Function::start_of, Signature::calendar_edge, "start_of(date, unit)"},
    FunctionEntry{"end_of", Function::end_of, Signature::calendar_edge, "end_of(date, unit)"},
    FunctionEntry{"today", Function::today, Signature::no_argument_date, "today()"},
    FunctionEntry{"text", Function::text, Signature::to_text, "text(value) or text(number or date, \"pattern\")"},
    FunctionEntry{"integer", Function::integer_from, Signature::from_text, "integer(text)"},
    FunctionEntry{"decimal", Function::decimal_from, Signature::to_decimal, "decimal(text, digits)"},
    FunctionEntry{"real", Function::real_from, Signature::from_text, "real(text)"},
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

OpForm form_of(Op op) {
  switch (op) {
    case Op::literal:
      return OpForm::literal;
    case Op::column:
      return OpForm::column;
    case Op::field:
      return OpForm::field;
    case Op::name:
      return OpForm::name;
    case Op::measure:
      return OpForm::measure;
    case Op::modified:
      return OpForm::modified;
    case Op::let:
      return OpForm::let;
    case Op::aggregate:
      return OpForm::aggregate;
    case Op::grouping:
      return OpForm::grouping;
    case Op::add:
    case Op::subtract:
    case Op::multiply:
    case Op::divide:
    case Op::int_divide:
    case Op::modulo:
    case Op::negate:
    case Op::equal:
    case Op::not_equal:
    case Op::less:
    case Op::less_equal:
    case Op::is_distinct:
    case Op::in:
    case Op::like:
    case Op::and_:
    case Op::or_:
    case Op::not_:
    case Op::is_null:
    case Op::concat:
    case Op::cases:
    case Op::rescale:
    case Op::to_real:
    case Op::call:
      return OpForm::operation;
  }
  return OpForm::operation;
}

std::string_view id_of(Op op) {
  switch (op) {
    case Op::literal:
      return "value";
    case Op::column:
      return "column";
    case Op::field:
      return "field";
    case Op::name:
      return "name";
    case Op::measure:
      return "measure";
    case Op::modified:
      return "modified";
    case Op::let:
      return "let";
    case Op::aggregate:
      return "aggregate";
    case Op::grouping:
      return "grouping";
    case Op::add:
      return "+";
    case Op::subtract:
      return "-";
    case Op::multiply:
      return "*";
    case Op::divide:
      return "/";
    case Op::int_divide:
      return "div";
    case Op::modulo:
      return "mod";
    case Op::negate:
      return "negate";
    case Op::equal:
      return "=";
    case Op::not_equal:
      return "<>";
    case Op::less:
      return "<";
    case Op::less_equal:
      return "<=";
    case Op::is_distinct:
      return "is distinct";
    case Op::in:
      return "in";
    case Op::like:
      return "like";
    case Op::and_:
      return "and";
    case Op::or_:
      return "or";
    case Op::not_:
      return "not";
    case Op::is_null:
      return "is null";
    case Op::concat:
      return "||";
    case Op::cases:
      return "case";
    case Op::rescale:
      return "rescale";
    case Op::to_real:
      return "real";
    case Op::call:
      return "call";
  }
  std::abort();
}

std::string_view id_of(Function function) {
  // These bear the word of another one, which takes other arguments.
  if (function == Function::date_from) return "date_from";
  if (function == Function::datetime_from) return "datetime_from";
  const auto* const at = std::find_if(functions.begin(), functions.end(),
                                      [&](const FunctionEntry& entry) { return entry.function == function; });
  if (at == functions.end()) std::abort();
  return at->name;
}

std::string_view id_of(Aggregate aggregate) {
  switch (aggregate) {
    case Aggregate::sum:
      return "sum";
    case Aggregate::avg:
      return "avg";
    case Aggregate::min:
      return "min";
    case Aggregate::max:
      return "max";
    case Aggregate::row_count:
      return "row_count";
    case Aggregate::count:
      return "count";
    case Aggregate::count_distinct:
      return "count_distinct";
    case Aggregate::product:
      return "product";
    case Aggregate::median:
      return "median";
    case Aggregate::quantile:
      return "quantile";
    case Aggregate::stddev:
      return "stddev";
    case Aggregate::variance:
      return "variance";
    case Aggregate::stddev_pop:
      return "stddev_pop";
    case Aggregate::variance_pop:
      return "variance_pop";
    case Aggregate::any:
      return "any";
    case Aggregate::every:
      return "every";
    case Aggregate::first:
      return "first";
    case Aggregate::last:
      return "last";
    case Aggregate::list:
      return "list";
    case Aggregate::rank:
      return "rank";
    case Aggregate::exists:
      return "exists";
    case Aggregate::only:
      return "only";
  }
  std::abort();
}

std::string_view id_of(RowsKind kind) {
  switch (kind) {
    case RowsKind::table:
      return "table";
    case RowsKind::members:
      return "members";
    case RowsKind::named:
      return "named";
    case RowsKind::filtered:
      return "filtered";
    case RowsKind::extended:
      return "extended";
    case RowsKind::sorted:
      return "sorted";
    case RowsKind::days:
      return "days";
    case RowsKind::distinct:
      return "distinct";
    case RowsKind::grouped:
      return "grouped";
    case RowsKind::top:
      return "top";
    case RowsKind::unite:
      return "unite";
    case RowsKind::except:
      return "except";
    case RowsKind::intersect:
      return "intersect";
  }
  std::abort();
}

std::string_view id_of(Period period) {
  switch (period) {
    case Period::to_date:
      return "to_date";
    case Period::whole:
      return "whole";
    case Period::previous:
      return "previous";
    case Period::next:
      return "next";
    case Period::shift:
      return "shift";
    case Period::trailing:
      return "trailing";
  }
  std::abort();
}

std::string_view id_of(Unit unit) {
  switch (unit) {
    case Unit::day:
      return "day";
    case Unit::week:
      return "week";
    case Unit::month:
      return "month";
    case Unit::quarter:
      return "quarter";
    case Unit::year:
      return "year";
  }
  std::abort();
}

bool order_tells(Aggregate aggregate) {
  switch (aggregate) {
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::list:
      return true;
    case Aggregate::sum:
    case Aggregate::avg:
    case Aggregate::min:
    case Aggregate::max:
    case Aggregate::row_count:
    case Aggregate::count:
    case Aggregate::count_distinct:
    case Aggregate::product:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::stddev:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::variance_pop:
    case Aggregate::any:
    case Aggregate::every:
    case Aggregate::rank:
    case Aggregate::exists:
    case Aggregate::only:
      return false;
  }
  std::abort();
}

}  // namespace juniper::language
