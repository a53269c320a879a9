// SQLite files: a place inside of this process.
#include <fmt/format.h>
#include <sqlite3.h>

#include <fstream>
#include <optional>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "base/sql_name.h"
#include "live/place.h"
#include "live/sqlite_values.h"
#include "source/cell.h"
#include "source/records/cells.h"
#include "source/spelling.h"
#include "sql/dialect.h"
#include "sql/sqlite_functions.h"

namespace juniper::live {

namespace {

// --- functions ------------------------------------------------------------------------------------------------------

source::Cell cell_of(sqlite3_value* value) {
  switch (sqlite3_value_type(value)) {
    case SQLITE_NULL:
      return {};
    case SQLITE_INTEGER:
      return source::Cell::of_integer(sqlite3_value_int64(value));
    case SQLITE_FLOAT:
      return source::Cell::of_real(sqlite3_value_double(value));
    default:
      break;
  }
  const auto* const bytes = static_cast<const char*>(sqlite3_value_blob(value));
  return source::Cell::of_text({bytes, static_cast<std::size_t>(sqlite3_value_bytes(value))});
}

void value_of(sqlite3_context* context, int, sqlite3_value** x) {
  const int stored = sqlite3_value_type(x[0]);
  if (stored == SQLITE_NULL) return sqlite3_result_null(context);
  const Type type{static_cast<TypeKind>(sqlite3_value_int(x[1])), static_cast<std::uint8_t>(sqlite3_value_int(x[2]))};
  const auto part = static_cast<base::FieldPart>(sqlite3_value_int(x[3]));
  if (type.kind == TypeKind::integer && stored == SQLITE_INTEGER) return sqlite3_result_value(context, x[0]);
  if (type.kind == TypeKind::text && stored == SQLITE_TEXT) return sqlite3_result_value(context, x[0]);
  if (type.kind == TypeKind::real && stored == SQLITE_FLOAT) return sqlite3_result_value(context, x[0]);
  if (type.kind == TypeKind::boolean && stored == SQLITE_INTEGER && (sqlite3_value_int64(x[0]) & ~1) == 0)
    return sqlite3_result_value(context, x[0]);
  const std::string text = source::text_of(cell_of(x[0]));
  if (type.kind == TypeKind::text)
    return sqlite3_result_text(context, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
  if (type.kind == TypeKind::real) {
    if (const auto value = parse_value(text, type)) return sqlite3_result_double(context, value->real());
  } else if (const auto value = source::parse_cell(text, type, part)) {
    return sqlite3_result_int64(context, *value);
  }
  const std::string why = fmt::format("'{}' is no value of type {}", base::shortened(text, 60), to_string(type));
  sqlite3_result_error(context, why.c_str(), static_cast<int>(why.size()));
}

enum class Arithmetic : std::uint8_t { sum, difference, product };

template <Arithmetic arithmetic>
void exact(sqlite3_context* context, int, sqlite3_value** x) {
  if (sqlite3_value_type(x[0]) == SQLITE_NULL || sqlite3_value_type(x[1]) == SQLITE_NULL)
    return sqlite3_result_null(context);
  const std::int64_t a = sqlite3_value_int64(x[0]);
  const std::int64_t b = sqlite3_value_int64(x[1]);
  std::int64_t result = 0;
  bool leaves = false;
  switch (arithmetic) {
    case Arithmetic::sum:
      leaves = __builtin_add_overflow(a, b, &result);
      break;
    case Arithmetic::difference:
      leaves = __builtin_sub_overflow(a, b, &result);
      break;
    case Arithmetic::product:
      leaves = __builtin_mul_overflow(a, b, &result);
      break;
  }
  leaves ? sqlite3_result_error(context, "integer overflow", -1) : sqlite3_result_int64(context, result);
}

// --- the connection -------------------------------------------------------------------------------------------------

// What SQLite asks now and then, while it runs a statement: whether to go on.
struct Watched {
  const engine::Watch* watch;
  std::optional<Diagnostics> stopped = {};

  static int whether_to_stop(void* context) {
    auto& watched = *static_cast<Watched*>(context);
    try {
      if (watched.watch != nullptr) watched.watch->check();
    } catch (const base::Failure& failure) {
      watched.stopped = failure.diagnostics();
    }
    return watched.stopped ? 1 : 0;
  }
};

class SqlitePlace final : public Place {
 public:
  explicit SqlitePlace(const std::filesystem::path& path) : path_(path.string()), dialect_(sqlite_dialect()) {
    if (!std::ifstream(path, std::ios::binary))
      throw base::Failure(base::error_at("JR-501", juniper::Place{path_, 0, 0}, "cannot open this file"));
    sqlite3* opened = nullptr;
    const int status = sqlite3_open_v2(path_.c_str(), &opened, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, nullptr);
    database_.reset(opened);
    if (opened == nullptr) throw std::bad_alloc();
    if (status != SQLITE_OK) fail("this database can't be opened", "");
    // A file of a stranger may hold a schema that was made to do harm.
    sqlite3_db_config(opened, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(opened, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_busy_timeout(opened, 10'000);
    sql_engine::add_functions(opened);
    add_value_functions(opened);
    for (const char* const setting : {"PRAGMA cell_size_check = ON", "PRAGMA case_sensitive_like = ON", "BEGIN"}) {
      if (sqlite3_exec(opened, setting, nullptr, nullptr, nullptr) != SQLITE_OK)
        fail("this is no SQLite database that can be read", setting);
    }
  }

  std::string name() const override { return "sqlite " + path_; }
  const Dialect& dialect() const override { return *dialect_; }

  std::string relation(const base::Selection& selection) override {
    if (selection.kind != base::Selection::Kind::query) return base::sql_name(selection.text);
    // It has to be a query by itself. A comment that it leaves open, which SQLite allows, must not take in what follows.
    prepare(selection.text);
    return fmt::format("({}\n/**/)", selection.text);
  }

  std::map<std::string, std::string> columns(const std::string& relation) override {
    const auto statement = prepare(fmt::format("SELECT * FROM {} LIMIT 0", relation));
    std::map<std::string, std::string> columns;
    for (int c = 0; c < sqlite3_column_count(statement.get()); ++c)
      columns.emplace(sqlite3_column_name(statement.get(), c), "");
    return columns;
  }

  engine::LiveSizes sizes(const base::Selection& selection) override {
    engine::LiveSizes sizes;
    // The pages of each table and index, where SQLite was built with what counts them.
    sqlite3_stmt* none = nullptr;
    const bool counts =
        sqlite3_prepare_v2(database_.get(), "SELECT pgsize FROM dbstat", -1, &none, nullptr) == SQLITE_OK;
    sqlite3_finalize(none);
    if (!counts || selection.kind == base::Selection::Kind::query) return sizes;
    const Type number{TypeKind::integer, 0};
    const std::string name = sql_engine::text_literal(selection.text);
    const Answer answer = ask(
        fmt::format("SELECT (SELECT SUM(pgsize) FROM dbstat WHERE name = {0}), (SELECT SUM(pgsize) FROM dbstat WHERE "
                    "name IN (SELECT name FROM sqlite_schema WHERE type = 'index' AND tbl_name = {0}))",
                    name),
        {number, number}, nullptr);
    const auto told = [&](std::size_t c) -> std::optional<std::uint64_t> {
      const Value value = answer.value(c, 0);
      return value.is_null() ? std::nullopt : std::optional(static_cast<std::uint64_t>(value.exact()));
    };
    sizes.bytes = told(0);
    if (sizes.bytes) sizes.index_bytes = told(1).value_or(0);
    return sizes;
  }

  Answer ask(const std::string& text, const std::vector<Type>& types, const engine::Watch* watch) override {
    const auto statement = prepare(text);
    Watched watched{watch};
    constexpr int steps_between = 20'000;
    sqlite3_progress_handler(database_.get(), steps_between, Watched::whether_to_stop, &watched);
    Answer answer(types);
    int status = sqlite3_step(statement.get());
    for (; status == SQLITE_ROW; status = sqlite3_step(statement.get())) {
      for (std::size_t c = 0; c < types.size(); ++c) add(statement.get(), static_cast<int>(c), answer);
    }
    sqlite3_progress_handler(database_.get(), 0, nullptr, nullptr);
    if (watched.stopped) throw base::Failure(*watched.stopped);
    if (status == SQLITE_NOMEM) throw std::bad_alloc();
    if (status != SQLITE_DONE) fail("this database does not answer", text);
    return answer;
  }

 private:
  struct Close {
    void operator()(sqlite3* database) const { sqlite3_close_v2(database); }
  };
  struct Finalize {
    void operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
  };
  using Prepared = std::unique_ptr<sqlite3_stmt, Finalize>;

  Prepared prepare(const std::string& text) {
    sqlite3_stmt* statement = nullptr;
    const char* behind = nullptr;
    const int status =
        sqlite3_prepare_v2(database_.get(), text.data(), static_cast<int>(text.size()), &statement, &behind);
    Prepared prepared(statement);
    // SQLite would run the first of several and say nothing of the rest, in which conditions may stand.
    if (status == SQLITE_OK && behind != text.data() + text.size()) {
      throw base::Failure(base::error_at("JR-521", juniper::Place{path_, 0, 0}, "a query of the model ends a statement",
                                         "write one select without a semicolon: query \"select …\""));
    }
    if (status != SQLITE_OK || statement == nullptr) fail("this database does not answer", text);
    return prepared;
  }

  static void add(sqlite3_stmt* statement, int c, Answer& answer) {
    switch (sqlite3_column_type(statement, c)) {
      case SQLITE_NULL:
        return answer.add_null();
      case SQLITE_INTEGER:
        return answer.add_exact(sqlite3_column_int64(statement, c));
      case SQLITE_FLOAT:
        return answer.add_real(sqlite3_column_double(statement, c));
      default:
        break;
    }
    const auto* const bytes = static_cast<const char*>(sqlite3_column_blob(statement, c));
    answer.add_text({bytes, static_cast<std::size_t>(sqlite3_column_bytes(statement, c))});
  }

  [[noreturn]] void fail(const std::string& what, const std::string& statement) const {
    throw base::Failure(base::error_at("JR-521", juniper::Place{path_, 0, 0},
                                       fmt::format("{} ({})", what, sqlite3_errmsg(database_.get())),
                                       statement.empty() ? "" : "it was asked: " + base::shortened(statement, 2000)));
  }

  std::string path_;
  std::unique_ptr<sqlite3, Close> database_;
  std::unique_ptr<Dialect> dialect_;
};

}  // namespace

void add_value_functions(sqlite3* database) {
  const auto add = [&](const char* name, int arguments, void (*function)(sqlite3_context*, int, sqlite3_value**)) {
    sqlite3_create_function(database, name, arguments, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr, function, nullptr,
                            nullptr);
  };
  add("value_of", 4, value_of);
  add("exact_sum", 2, exact<Arithmetic::sum>);
  add("exact_difference", 2, exact<Arithmetic::difference>);
  add("exact_product", 2, exact<Arithmetic::product>);
}

std::unique_ptr<Place> open_sqlite(const std::filesystem::path& path) {
  return std::make_unique<SqlitePlace>(path);
}

}  // namespace juniper::live
