#include "sql/sqlite_functions.h"

#include <sqlite3.h>
#include <unicode/locid.h>
#include <unicode/unistr.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/calendar.h"
#include "base/conversion.h"
#include "base/format.h"
#include "juniper/value.h"

namespace juniper::sql_engine {

namespace {

// --- scalar functions -----------------------------------------------------------------------------------------------

bool any_null(int count, sqlite3_value** arguments) {
  return std::any_of(arguments, arguments + count,
                     [](sqlite3_value* v) { return sqlite3_value_type(v) == SQLITE_NULL; });
}

template <class Function>
void whole(sqlite3_context* context, int count, sqlite3_value** x, const Function& f) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  sqlite3_result_int64(context, f());
}

base::Unit unit_of(sqlite3_value* value) {
  return static_cast<base::Unit>(sqlite3_value_int(value));
}

void start_of(sqlite3_context* context, int count, sqlite3_value** x) {
  whole(context, count, x, [&] { return base::start_of(sqlite3_value_int64(x[0]), unit_of(x[1])); });
}
void end_of(sqlite3_context* context, int count, sqlite3_value** x) {
  whole(context, count, x, [&] { return base::end_of(sqlite3_value_int64(x[0]), unit_of(x[1])); });
}
void moved(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  const auto result = base::moved(sqlite3_value_int64(x[0]), sqlite3_value_int64(x[1]), unit_of(x[2]));
  result ? sqlite3_result_int64(context, *result) : sqlite3_result_null(context);
}
// The ISO week, by counting Mondays from the week that holds 4 January.
void iso_week(sqlite3_context* context, int count, sqlite3_value** x) {
  whole(context, count, x, [&] {
    const std::int64_t monday = base::start_of(sqlite3_value_int64(x[0]), base::Unit::week);
    const int year = static_cast<int>(base::civil_from_days(monday + 3).year());
    return (monday - base::start_of(base::days_from_civil(year, 1, 4), base::Unit::week)) / 7 + 1;
  });
}
void floor_divide(sqlite3_context* context, int count, sqlite3_value** x) {
  whole(context, count, x, [&] { return base::floor_divide(sqlite3_value_int64(x[0]), sqlite3_value_int64(x[1])); });
}
void months_between(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  sqlite3_result_double(context, base::months_between(sqlite3_value_int64(x[0]), sqlite3_value_int64(x[1])));
}
void years_between(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  sqlite3_result_double(context, base::years_between(sqlite3_value_int64(x[0]), sqlite3_value_int64(x[1])));
}
void round_real(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  const double factor = std::pow(10.0, sqlite3_value_int(x[1]));
  sqlite3_result_double(context, std::round(sqlite3_value_double(x[0]) * factor) / factor);
}
template <bool upper>
void change_case(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  icu::UnicodeString text = icu::UnicodeString::fromUTF8(reinterpret_cast<const char*>(sqlite3_value_text(x[0])));
  upper ? text.toUpper(icu::Locale::getRoot()) : text.toLower(icu::Locale::getRoot());
  std::string result;
  text.toUTF8String(result);
  sqlite3_result_text(context, result.data(), static_cast<int>(result.size()), SQLITE_TRANSIENT);
}

std::string_view text_in(sqlite3_value* value) {
  const auto* const begin = reinterpret_cast<const char*>(sqlite3_value_text(value));
  return {begin, static_cast<std::size_t>(sqlite3_value_bytes(value))};
}
// A value of the kind and the scale that follow, by the pattern behind them.
void text_of(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  const Type type{static_cast<TypeKind>(sqlite3_value_int(x[1])), static_cast<std::uint8_t>(sqlite3_value_int(x[2]))};
  Value value = Value::of(static_cast<int128>(sqlite3_value_int64(x[0])));
  if (type.kind == TypeKind::real) value = Value::of(sqlite3_value_double(x[0]));
  if (type.kind == TypeKind::text) value = Value::of(std::string(text_in(x[0])));
  const std::string_view pattern = text_in(x[3]);
  const std::string text = pattern.empty() ? to_text(value, type) : base::ValueFormat(type, pattern).text(value);
  sqlite3_result_text(context, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
}
void whole_from(sqlite3_context* context, const std::optional<std::int64_t>& value) {
  value ? sqlite3_result_int64(context, *value) : sqlite3_result_null(context);
}
void integer_from(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  whole_from(context, base::integer_from(text_in(x[0])));
}
void decimal_from(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  whole_from(context, base::decimal_from(text_in(x[0]), sqlite3_value_int(x[1])));
}
void real_from(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  const auto value = base::real_from(text_in(x[0]));
  value ? sqlite3_result_double(context, *value) : sqlite3_result_null(context);
}
void date_from(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  whole_from(context, base::date_from(text_in(x[0]), text_in(x[1])));
}
void datetime_from(sqlite3_context* context, int count, sqlite3_value** x) {
  if (any_null(count, x)) return sqlite3_result_null(context);
  whole_from(context, base::datetime_from(text_in(x[0]), text_in(x[1])));
}

// --- aggregates -----------------------------------------------------------------------------------------------------

// The values of one group. SQLite keeps a pointer to it between the steps.
struct Collected {
  std::vector<double> values;
  double argument = 0;
  double product = 1;
  // Of whole numbers, the product as far as it fits; one factor of 0 makes it 0 whatever the others are.
  bool whole = true;
  std::int64_t whole_product = 1;
  bool fits = true;
  bool has_zero = false;
};

Collected* collected(sqlite3_context* context) {
  auto** const kept = static_cast<Collected**>(sqlite3_aggregate_context(context, sizeof(Collected*)));
  if (*kept == nullptr) *kept = new Collected;
  return *kept;
}

void collect(sqlite3_context* context, int count, sqlite3_value** x) {
  if (sqlite3_value_type(x[0]) == SQLITE_NULL) return;
  Collected& all = *collected(context);
  all.values.push_back(sqlite3_value_double(x[0]));
  all.product *= sqlite3_value_double(x[0]);
  all.whole = all.whole && sqlite3_value_type(x[0]) == SQLITE_INTEGER;
  const std::int64_t factor = all.whole ? sqlite3_value_int64(x[0]) : 1;
  all.has_zero = all.has_zero || factor == 0;
  all.fits = all.fits && !__builtin_mul_overflow(all.whole_product, factor, &all.whole_product);
  if (count > 1) all.argument = sqlite3_value_double(x[1]);
}

template <class Finish>
void finish(sqlite3_context* context, const Finish& result) {
  const std::unique_ptr<Collected> all(collected(context));
  if (all->values.empty()) return sqlite3_result_null(context);
  result(*all);
}

void finish_product(sqlite3_context* context) {
  finish(context, [&](const Collected& all) {
    if (!all.whole) return sqlite3_result_double(context, all.product);
    if (!all.fits && !all.has_zero) return sqlite3_result_error(context, "integer overflow", -1);
    sqlite3_result_int64(context, all.has_zero ? 0 : all.whole_product);
  });
}
void finish_quantile(sqlite3_context* context) {
  finish(context, [&](Collected& all) {
    std::sort(all.values.begin(), all.values.end());
    const double place = all.argument * static_cast<double>(all.values.size() - 1);
    const double below = all.values[static_cast<std::size_t>(std::floor(place))];
    const double above = all.values[static_cast<std::size_t>(std::ceil(place))];
    sqlite3_result_double(context, std::lerp(below, above, place - std::floor(place)));
  });
}
void finish_variance(sqlite3_context* context) {
  finish(context, [&](const Collected& all) {
    const auto count = static_cast<double>(all.values.size());
    const double divisor = count - all.argument;
    if (divisor <= 0) return sqlite3_result_null(context);
    long double mean = 0;
    for (const double value : all.values) mean += value;
    mean /= count;
    long double squares = 0;
    for (const double value : all.values) squares += (value - mean) * (value - mean);
    sqlite3_result_double(context, static_cast<double>(squares / divisor));
  });
}

}  // namespace

void add_functions(sqlite3* database) {
  using Scalar = void (*)(sqlite3_context*, int, sqlite3_value**);
  const auto scalar = [&](const char* name, int arguments, Scalar function) {
    sqlite3_create_function(database, name, arguments, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr, function, nullptr,
                            nullptr);
  };
  scalar("start_of", 2, start_of);
  scalar("end_of", 2, end_of);
  scalar("moved", 3, moved);
  scalar("iso_week", 1, iso_week);
  scalar("floor_divide", 2, floor_divide);
  scalar("months_between", 2, months_between);
  scalar("years_between", 2, years_between);
  scalar("round_real", 2, round_real);
  scalar("upper_text", 1, change_case<true>);
  scalar("lower_text", 1, change_case<false>);
  scalar("text_of", 4, text_of);
  scalar("integer_from", 1, integer_from);
  scalar("decimal_from", 2, decimal_from);
  scalar("real_from", 1, real_from);
  scalar("date_from", 2, date_from);
  scalar("datetime_from", 2, datetime_from);
  const auto aggregate = [&](const char* name, int arguments, void (*last)(sqlite3_context*)) {
    sqlite3_create_function(database, name, arguments, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr, nullptr, collect,
                            last);
  };
  aggregate("product", 1, finish_product);
  aggregate("quantile", 2, finish_quantile);
  aggregate("variance", 2, finish_variance);
}

}  // namespace juniper::sql_engine
