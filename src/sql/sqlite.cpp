#include "sql/sqlite.h"

#include <fmt/format.h>
#include <sqlite3.h>
#include <unicode/locid.h>
#include <unicode/unistr.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <optional>

#include "base/calendar.h"
#include "base/conversion.h"
#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/format.h"
#include "sql/translate.h"

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

Value read(sqlite3_stmt* statement, int column, Type type) {
  switch (sqlite3_column_type(statement, column)) {
    case SQLITE_NULL:
      return {};
    case SQLITE_TEXT:
      return Value::of(std::string(reinterpret_cast<const char*>(sqlite3_column_text(statement, column)),
                                   static_cast<std::size_t>(sqlite3_column_bytes(statement, column))));
    case SQLITE_FLOAT:
      return Value::of(sqlite3_column_double(statement, column));
    default:
      if (type.kind == TypeKind::real) return Value::of(sqlite3_column_double(statement, column));
      return Value::of(static_cast<int128>(sqlite3_column_int64(statement, column)));
  }
}

}  // namespace

void Sqlite::Close::operator()(sqlite3* database) const {
  sqlite3_close(database);
}

tl::unexpected<Diagnostics> Sqlite::error(const std::string& statement) const {
  return tl::unexpected(base::error("JR-705", fmt::format("SQLite says: {}", sqlite3_errmsg(database_.get())),
                                    "the statement was: " + statement));
}

Result<Sqlite> Sqlite::open() {
  sqlite3* opened = nullptr;
  const int status = sqlite3_open(":memory:", &opened);
  Sqlite database{std::unique_ptr<sqlite3, Close>(opened)};
  if (status != SQLITE_OK) return database.error("open");
  using Scalar = void (*)(sqlite3_context*, int, sqlite3_value**);
  const auto scalar = [&](const char* name, int arguments, Scalar function) {
    sqlite3_create_function(opened, name, arguments, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr, function, nullptr,
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
    sqlite3_create_function(opened, name, arguments, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr, nullptr, collect,
                            last);
  };
  aggregate("product", 1, finish_product);
  aggregate("quantile", 2, finish_quantile);
  aggregate("variance", 2, finish_variance);
  if (auto set = database.execute("PRAGMA case_sensitive_like = ON"); !set) return tl::unexpected(set.error());
  return database;
}

Result<void> Sqlite::execute(const std::string& statement) {
  if (sqlite3_exec(database_.get(), statement.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) return error(statement);
  return {};
}

Result<void> Sqlite::add_table(const engine::Source& source, language::TableIndex index) {
  const language::Table& table = source.model.tables[index];
  std::string columns = "\"row$\" INTEGER PRIMARY KEY";
  std::string places = "?";
  for (const language::Column& column : table.columns) {
    const std::string_view type =
        column.type.kind == TypeKind::real ? "REAL" : (column.type.kind == TypeKind::text ? "TEXT" : "INTEGER");
    columns += fmt::format(", {} {}", quoted_name(column.name), type);
    places += ", ?";
  }
  if (auto created = execute(fmt::format("CREATE TABLE {} ({})", quoted_name(table.name), columns)); !created)
    return created;
  if (auto begun = execute("BEGIN"); !begun) return begun;
  const std::string insert = fmt::format("INSERT INTO {} VALUES ({})", quoted_name(table.name), places);
  sqlite3_stmt* prepared = nullptr;
  if (sqlite3_prepare_v2(database_.get(), insert.c_str(), -1, &prepared, nullptr) != SQLITE_OK) return error(insert);
  const std::unique_ptr<sqlite3_stmt, int (*)(sqlite3_stmt*)> statement(prepared, sqlite3_finalize);
  for (std::uint64_t row = 0; row < source.store.tables[index].rows; ++row) {
    sqlite3_reset(prepared);
    // Rows that were sorted anew are numbered as they came.
    const std::uint64_t told_by = source.store.tables[index].file_order;
    const std::uint64_t number =
        told_by == store::no_column ? row : source.store.tables[index].columns[told_by].data.codes.at(row);
    sqlite3_bind_int64(prepared, 1, static_cast<std::int64_t>(number));
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      const store::StoredColumn& stored = source.store.tables[index].columns[c];
      const Value value = stored.broken.empty() ? stored.data.at(row) : Value();
      const int place = static_cast<int>(c) + 2;
      switch (value.kind()) {
        case Value::Kind::null:
          sqlite3_bind_null(prepared, place);
          break;
        case Value::Kind::exact:
          sqlite3_bind_int64(prepared, place, static_cast<std::int64_t>(value.exact()));
          break;
        case Value::Kind::real:
          sqlite3_bind_double(prepared, place, value.real());
          break;
        case Value::Kind::text:
          sqlite3_bind_text(prepared, place, value.text().data(), static_cast<int>(value.text().size()),
                            SQLITE_TRANSIENT);
          break;
      }
    }
    if (sqlite3_step(prepared) != SQLITE_DONE) return error(insert);
  }
  if (auto ended = execute("COMMIT"); !ended) return ended;
  // What links lead to is looked up by its key.
  std::size_t number = 0;
  for (const language::Link& link : source.model.links) {
    if (link.to.table != index) continue;
    std::string list;
    for (const std::uint32_t c : link.to.columns)
      list += (list.empty() ? "" : ", ") + quoted_name(table.columns[c].name);
    const std::string name = quoted_name(fmt::format("{} {}", table.name, number++));
    if (auto created = execute(fmt::format("CREATE INDEX {} ON {} ({})", name, quoted_name(table.name), list));
        !created)
      return created;
  }
  return {};
}

namespace {

using Clock = std::chrono::steady_clock;

// What SQLite asks now and then, while it runs a statement: whether to go on.
struct Progress {
  const engine::Watch& watch;
  std::chrono::milliseconds longest;
  Clock::time_point begin = Clock::now();
  std::optional<Diagnostics> stopped = {};

  static int whether_to_stop(void* context) {
    auto& progress = *static_cast<Progress*>(context);
    try {
      progress.watch.check();
    } catch (const base::Failure& failure) {
      progress.stopped = failure.diagnostics();
      return 1;
    }
    if (Clock::now() - progress.begin <= progress.longest) return 0;
    progress.stopped =
        base::error("JR-711",
                    fmt::format("SQLite had no answer after {} s and was called off",
                                std::chrono::duration_cast<std::chrono::seconds>(progress.longest).count()),
                    "compare less: fewer rows in `where`, fewer keys in `by`, or one measure at a time");
    return 1;
  }
};

}  // namespace

Result<std::vector<std::vector<Value>>> Sqlite::run(const std::string& text, const std::vector<Type>& types,
                                                    const engine::Watch& watch, std::chrono::milliseconds longest) {
  sqlite3_stmt* prepared = nullptr;
  if (sqlite3_prepare_v2(database_.get(), text.c_str(), -1, &prepared, nullptr) != SQLITE_OK) return error(text);
  const std::unique_ptr<sqlite3_stmt, int (*)(sqlite3_stmt*)> statement(prepared, sqlite3_finalize);
  Progress progress{watch, longest};
  constexpr int steps_between = 20'000;
  sqlite3_progress_handler(database_.get(), steps_between, Progress::whether_to_stop, &progress);
  std::vector<std::vector<Value>> rows;
  int status = sqlite3_step(prepared);
  for (; status == SQLITE_ROW; status = sqlite3_step(prepared)) {
    std::vector<Value>& row = rows.emplace_back();
    for (std::size_t c = 0; c < types.size(); ++c) row.push_back(read(prepared, static_cast<int>(c), types[c]));
  }
  sqlite3_progress_handler(database_.get(), 0, nullptr, nullptr);
  if (progress.stopped) return tl::unexpected(*progress.stopped);
  if (status != SQLITE_DONE) return error(text);
  return rows;
}

}  // namespace juniper::sql_engine
