#include "sql/sqlite.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include <algorithm>
#include <chrono>
#include <optional>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "sql/sqlite_functions.h"
#include "sql/translate.h"

namespace juniper::sql_engine {

namespace {

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
  add_functions(opened);
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
