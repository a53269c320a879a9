// Tables as an SQLite database.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sqlite3.h>

#include <algorithm>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/sql_name.h"
#include "writing/table_writer.h"

namespace juniper::writing {

namespace {

// What SQLite makes of values: its declared types have meanings of its own.
std::string declared_type(const WrittenColumn& column) {
  switch (column.type.kind) {
    case TypeKind::boolean:
      return "BOOLEAN";
    case TypeKind::integer:
      // A key called INTEGER would be the number of the row, and rows would stand in its order.
      return column.digits > 18 ? "TEXT" : "BIGINT";
    case TypeKind::decimal:
      return column.is_told_by_double() ? fmt::format("DECIMAL(15, {})", column.type.scale) : "TEXT";
    case TypeKind::real:
      return "REAL";
    case TypeKind::text:
      return "TEXT";
    case TypeKind::date:
      return "DATE";
    case TypeKind::datetime:
      return "DATETIME";
    case TypeKind::time:
      return "TIME";
  }
  return "";
}

class SqliteOut {
 public:
  explicit SqliteOut(const std::string& path) : path_(path) {
    if (sqlite3_open_v2(path.c_str(), &database_, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr) != SQLITE_OK)
      fail();
    // The file takes its place when it is whole; until then nobody needs a journal.
    run("PRAGMA journal_mode = OFF");
    run("PRAGMA synchronous = OFF");
    run("BEGIN");
  }
  ~SqliteOut() { sqlite3_close_v2(database_); }
  SqliteOut(const SqliteOut&) = delete;
  SqliteOut& operator=(const SqliteOut&) = delete;

  void run(const std::string& sql) {
    if (sqlite3_exec(database_, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) fail();
  }
  sqlite3_stmt* prepare(const std::string& sql) {
    sqlite3_stmt* statement = nullptr;
    if (sqlite3_prepare_v2(database_, sql.c_str(), -1, &statement, nullptr) != SQLITE_OK) fail();
    return statement;
  }
  [[noreturn]] void fail() const {
    throw base::Failure(base::error("JR-009", fmt::format("cannot write {}: {}", path_, sqlite3_errmsg(database_)),
                                    "free some space, or name a place that can be written"));
  }

 private:
  std::string path_;
  sqlite3* database_ = nullptr;
};

class SqliteTableWriter : public TableWriter {
 public:
  SqliteTableWriter(SqliteOut& out, const std::string& name, std::vector<WrittenColumn> columns,
                    const std::vector<std::string>& keys)
      : out_(out), columns_(std::move(columns)) {
    std::vector<std::string> declared;
    std::vector<std::string> places;
    for (const WrittenColumn& column : columns_) {
      const bool is_key = keys.size() == 1 && keys[0] == column.name;
      declared.push_back(
          fmt::format("{} {}{}", base::sql_name(column.name), declared_type(column), is_key ? " PRIMARY KEY" : ""));
      places.emplace_back("?");
    }
    out_.run(fmt::format("CREATE TABLE {} ({})", base::sql_name(name), fmt::join(declared, ", ")));
    statement_ = out_.prepare(fmt::format("INSERT INTO {} VALUES ({})", base::sql_name(name), fmt::join(places, ", ")));
  }
  ~SqliteTableWriter() override { sqlite3_finalize(statement_); }
  SqliteTableWriter(const SqliteTableWriter&) = delete;
  SqliteTableWriter& operator=(const SqliteTableWriter&) = delete;

  void write(const Batch& batch) override {
    for (std::size_t row = 0; row < batch.rows; ++row) {
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (bind(static_cast<int>(c + 1), columns_[c], batch.columns[c], row) != SQLITE_OK) out_.fail();
      }
      if (sqlite3_step(statement_) != SQLITE_DONE || sqlite3_reset(statement_) != SQLITE_OK) out_.fail();
    }
  }
  void finish() override {}

 private:
  int bind(int place, const WrittenColumn& column, const BatchColumn& values, std::size_t row) {
    if (values.is_null[row] != 0) return sqlite3_bind_null(statement_, place);
    const auto as_text = [&] {
      const std::string text = text_of(values, column.type, row);
      return sqlite3_bind_text(statement_, place, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
    };
    switch (column.type.kind) {
      case TypeKind::integer:
      case TypeKind::boolean:
        if (column.digits > 18) return as_text();
        return sqlite3_bind_int64(statement_, place, static_cast<sqlite3_int64>(values.exact[row]));
      case TypeKind::decimal:
        if (!column.is_told_by_double()) return as_text();
        return sqlite3_bind_double(statement_, place, base::to_real(values.exact[row], column.type.scale));
      case TypeKind::real:
        return sqlite3_bind_double(statement_, place, values.real[row]);
      case TypeKind::text:
        return sqlite3_bind_text64(statement_, place, values.text[row].empty() ? "" : values.text[row].data(),
                                   values.text[row].size(), SQLITE_TRANSIENT, SQLITE_UTF8);
      case TypeKind::date:
      case TypeKind::datetime:
      case TypeKind::time:
        return as_text();
    }
    return SQLITE_OK;
  }

  SqliteOut& out_;
  std::vector<WrittenColumn> columns_;
  sqlite3_stmt* statement_ = nullptr;
};

class SqliteTablesFile : public TablesFile {
 public:
  explicit SqliteTablesFile(const std::string& path) : out_(path) {}
  std::unique_ptr<TableWriter> table(const std::string& name, std::vector<WrittenColumn> columns,
                                     const std::vector<std::string>& keys) override {
    last_ = name;
    return std::make_unique<SqliteTableWriter>(out_, name, std::move(columns), keys);
  }
  const std::string& name_of_last() const override { return last_; }
  void finish() override { out_.run("COMMIT"); }

 private:
  SqliteOut out_;
  std::string last_;
};

}  // namespace

std::unique_ptr<TablesFile> sqlite_file(const std::string& path) {
  return std::make_unique<SqliteTablesFile>(path);
}

}  // namespace juniper::writing
