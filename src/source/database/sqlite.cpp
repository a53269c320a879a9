#include "source/database/sqlite.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sqlite3.h>

#include <fstream>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "base/sql_name.h"

namespace juniper::source {

namespace {

class SqliteDatabase : public Connections::Connection {
 public:
  explicit SqliteDatabase(const std::filesystem::path& path) : name_(path.string()) {
    // SQLite's own message for a file that is not there does not say so.
    if (!std::ifstream(path, std::ios::binary)) {
      throw base::Failure(base::error_at("JR-501", Place{name_, 0, 0}, "cannot open this file"));
    }
    const int opened = sqlite3_open_v2(name_.c_str(), &database_, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, nullptr);
    if (database_ == nullptr) throw std::bad_alloc();
    if (opened != SQLITE_OK) fail("this database can't be opened");
    // A file of a stranger may hold a schema that was made to do harm.
    sqlite3_db_config(database_, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(database_, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_busy_timeout(database_, 10'000);
    run("PRAGMA cell_size_check = ON");
    run("BEGIN");
  }
  ~SqliteDatabase() override { sqlite3_close_v2(database_); }
  SqliteDatabase(const SqliteDatabase&) = delete;
  SqliteDatabase& operator=(const SqliteDatabase&) = delete;

  sqlite3_stmt* prepare(const std::string& sql) {
    sqlite3_stmt* statement = nullptr;
    const char* behind = nullptr;
    if (sqlite3_prepare_v2(database_, sql.c_str(), static_cast<int>(sql.size()), &statement, &behind) != SQLITE_OK)
      fail("this database does not answer: " + base::shortened(sql, 200));
    const bool is_query =
        statement != nullptr && sqlite3_stmt_readonly(statement) != 0 && sqlite3_column_count(statement) > 0;
    sqlite3_stmt* second = nullptr;
    bool is_one = true;
    if (is_query && behind != nullptr && *behind != '\0') {
      // Behind it, only blanks, comments and semicolons.
      is_one = sqlite3_prepare_v2(database_, behind, -1, &second, nullptr) == SQLITE_OK && second == nullptr;
      sqlite3_finalize(second);
    }
    if (!is_query || !is_one) {
      sqlite3_finalize(statement);
      throw base::Failure(base::error_at("JR-521", Place{name_, 0, 0},
                                         "this is not one query: " + base::shortened(sql, 200),
                                         "write one select, which changes nothing"));
    }
    return statement;
  }

  [[noreturn]] void fail(const std::string& what) const {
    throw base::Failure(
        base::error_at("JR-521", Place{name_, 0, 0}, fmt::format("{} ({})", what, sqlite3_errmsg(database_))));
  }

  const std::string& name() const { return name_; }

 private:
  void run(const char* sql) {
    if (sqlite3_exec(database_, sql, nullptr, nullptr, nullptr) != SQLITE_OK)
      fail("this is no SQLite database that can be read");
  }

  std::string name_;
  sqlite3* database_ = nullptr;
};

class SqliteStatement {
 public:
  SqliteStatement(SqliteDatabase& database, const std::string& sql)
      : database_(database), statement_(database.prepare(sql)) {}
  ~SqliteStatement() { sqlite3_finalize(statement_); }
  SqliteStatement(const SqliteStatement&) = delete;
  SqliteStatement& operator=(const SqliteStatement&) = delete;

  bool step() {
    const int done = sqlite3_step(statement_);
    if (done == SQLITE_ROW) return true;
    if (done == SQLITE_NOMEM) throw std::bad_alloc();
    if (done != SQLITE_DONE) database_.fail("this database can't be read on");
    return false;
  }
  std::vector<std::string> names() const {
    std::vector<std::string> names;
    for (int c = 0; c < sqlite3_column_count(statement_); ++c) {
      const char* const name = sqlite3_column_name(statement_, c);
      if (name == nullptr) throw std::bad_alloc();
      names.emplace_back(name);
    }
    return names;
  }
  // The value of a column in the row at hand; texts are kept by the cells.
  Cell value(std::size_t column, Cells& cells) const {
    const int c = static_cast<int>(column);
    switch (sqlite3_column_type(statement_, c)) {
      case SQLITE_NULL:
        return {};
      case SQLITE_INTEGER:
        return Cell::of_integer(sqlite3_column_int64(statement_, c));
      case SQLITE_FLOAT:
        return Cell::of_real(sqlite3_column_double(statement_, c));
      default:  // a text, or bytes, which are one if they are UTF-8
        break;
    }
    const auto* const bytes = static_cast<const char*>(sqlite3_column_blob(statement_, c));
    const auto size = static_cast<std::size_t>(sqlite3_column_bytes(statement_, c));
    if (bytes == nullptr && size != 0) throw std::bad_alloc();
    return Cell::of_text(cells.keep({bytes, size}));
  }

 private:
  SqliteDatabase& database_;
  sqlite3_stmt* statement_;
};

std::string sqlite_select(const TableRequest& request) {
  if (request.place.selection.kind == base::Selection::Kind::query) return request.place.selection.text;
  return "SELECT * FROM " + base::sql_name(request.place.selection.text);
}

class SqliteSource : public RecordSource {
 public:
  SqliteSource(const TableRequest& request, const std::filesystem::path& path, Connections* connections)
      : request_(request), path_(path) {
    const auto open = [&] { return std::make_unique<SqliteDatabase>(path); };
    if (connections == nullptr) {
      own_ = open();
      database_ = own_.get();
    } else {
      database_ = static_cast<SqliteDatabase*>(&connections->of("sqlite " + path.string(), open));
    }
    if (request.place.selection.kind == base::Selection::Kind::table) check_table();
    statement_.emplace(*database_, sqlite_select(request));
    const auto positions = find_columns(request, statement_->names(), database_->name(), 0);
    if (!positions) throw base::Failure(positions.error());
    positions_ = *positions;
    if (request.place.selection.kind == base::Selection::Kind::query) return;
    // Of a table, only what is read.
    std::string columns;
    for (const ColumnRequest& column : request.columns)
      columns += (columns.empty() ? "" : ", ") + base::sql_name(column.header);
    if (columns.empty()) return;
    statement_.reset();
    statement_.emplace(*database_,
                       fmt::format("SELECT {} FROM {}", columns, base::sql_name(request.place.selection.text)));
    for (std::size_t c = 0; c < positions_.size(); ++c) positions_[c] = c;
  }

  std::unique_ptr<RecordPiece> next() override {
    if (at_end_) return nullptr;
    Cells cells(request_.columns.size());
    std::uint32_t row = 0;
    while (row < rows_of_record_piece && cells.kept_bytes() < bytes_of_record_piece) {
      at_end_ = !statement_->step();
      if (at_end_) break;
      cells.add_row(row++);
      for (std::size_t c = 0; c < positions_.size(); ++c) cells.last(c) = statement_->value(positions_[c], cells);
    }
    cells.set_lines(row);
    return row == 0 ? nullptr : std::make_unique<ReadRecords>(std::move(cells));
  }
  std::uint64_t bytes_read() const override { return 0; }
  void finish(SourceFile& source) const override { source.hash = hash_file(request_, path_).value_or(0); }

 private:
  // A name that is none would be told as "no such table", without the names that there are.
  void check_table() {
    SqliteStatement all(*database_, "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') ORDER BY name");
    std::vector<std::string> names;
    while (all.step()) {
      Cells cells(1);
      const std::string name(all.value(0, cells).text);
      // SQLite tells no capitals from small letters in names.
      if (sqlite3_stricmp(name.c_str(), request_.place.selection.text.c_str()) == 0) return;
      names.push_back(name);
    }
    throw base::Failure(base::error_at("JR-521", Place{database_->name(), 0, 0},
                                       fmt::format("this database has no table '{}'; it has: {}",
                                                   request_.place.selection.text, fmt::join(names, ", ")),
                                       base::did_you_mean(request_.place.selection.text, names)));
  }

  const TableRequest& request_;
  std::filesystem::path path_;
  std::unique_ptr<SqliteDatabase> own_;
  SqliteDatabase* database_ = nullptr;
  std::optional<SqliteStatement> statement_;
  std::vector<std::size_t> positions_;
  bool at_end_ = false;
};

std::unique_ptr<RecordSource> open_sqlite(const TableRequest& request, const std::filesystem::path& path,
                                          Connections* connections) {
  return std::make_unique<SqliteSource>(request, path, connections);
}

std::vector<RecordColumn> columns_of_sqlite(const TableRequest& request, const std::filesystem::path& path) {
  SqliteDatabase database(path);
  std::vector<RecordColumn> columns;
  for (std::string& name : SqliteStatement(database, sqlite_select(request)).names())
    columns.push_back({std::move(name), std::nullopt});
  return columns;
}

}  // namespace

RecordKind sqlite_kind() {
  return {open_sqlite, columns_of_sqlite, true};
}

Result<std::vector<std::string>> sqlite_tables(const std::filesystem::path& path) {
  return base::guarded([&]() -> Result<std::vector<std::string>> {
    SqliteDatabase database(path);
    SqliteStatement all(database,
                        "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' "
                        "ESCAPE '\\' ORDER BY name");
    std::vector<std::string> names;
    while (all.step()) {
      Cells cells(1);
      names.emplace_back(all.value(0, cells).text);
    }
    return names;
  });
}

}  // namespace juniper::source
