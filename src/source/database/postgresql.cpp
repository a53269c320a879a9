#include "source/database/postgresql.h"

#include <fmt/format.h>
#include <libpq-fe.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/loaded_library.h"
#include "base/shown_text.h"
#include "base/sql_name.h"
#include "source/csv/table.h"

namespace juniper::source {

namespace {

// The client library, as far as it is used.
struct Libpq {
  base::LoadedLibrary library{"libpq.so.5"};
  decltype(&::PQcancel) PQcancel = library.function<decltype(&::PQcancel)>("PQcancel");
  decltype(&::PQclear) PQclear = library.function<decltype(&::PQclear)>("PQclear");
  decltype(&::PQconnectdb) PQconnectdb = library.function<decltype(&::PQconnectdb)>("PQconnectdb");
  decltype(&::PQerrorMessage) PQerrorMessage = library.function<decltype(&::PQerrorMessage)>("PQerrorMessage");
  decltype(&::PQexec) PQexec = library.function<decltype(&::PQexec)>("PQexec");
  decltype(&::PQexecParams) PQexecParams = library.function<decltype(&::PQexecParams)>("PQexecParams");
  decltype(&::PQfinish) PQfinish = library.function<decltype(&::PQfinish)>("PQfinish");
  decltype(&::PQfname) PQfname = library.function<decltype(&::PQfname)>("PQfname");
  decltype(&::PQfreeCancel) PQfreeCancel = library.function<decltype(&::PQfreeCancel)>("PQfreeCancel");
  decltype(&::PQfreemem) PQfreemem = library.function<decltype(&::PQfreemem)>("PQfreemem");
  decltype(&::PQftype) PQftype = library.function<decltype(&::PQftype)>("PQftype");
  decltype(&::PQgetCancel) PQgetCancel = library.function<decltype(&::PQgetCancel)>("PQgetCancel");
  decltype(&::PQgetCopyData) PQgetCopyData = library.function<decltype(&::PQgetCopyData)>("PQgetCopyData");
  decltype(&::PQgetResult) PQgetResult = library.function<decltype(&::PQgetResult)>("PQgetResult");
  decltype(&::PQgetvalue) PQgetvalue = library.function<decltype(&::PQgetvalue)>("PQgetvalue");
  decltype(&::PQnfields) PQnfields = library.function<decltype(&::PQnfields)>("PQnfields");
  decltype(&::PQresultStatus) PQresultStatus = library.function<decltype(&::PQresultStatus)>("PQresultStatus");
  decltype(&::PQsetClientEncoding) PQsetClientEncoding =
      library.function<decltype(&::PQsetClientEncoding)>("PQsetClientEncoding");
  decltype(&::PQsetNoticeProcessor) PQsetNoticeProcessor =
      library.function<decltype(&::PQsetNoticeProcessor)>("PQsetNoticeProcessor");
  decltype(&::PQstatus) PQstatus = library.function<decltype(&::PQstatus)>("PQstatus");
};

const Libpq& libpq() {
  static const Libpq functions;
  return functions;
}

using Answer = std::unique_ptr<PGresult, decltype(&::PQclear)>;

class PostgresqlServer : public Connections::Connection {
 public:
  explicit PostgresqlServer(std::string place) : place_(std::move(place)), connection_(nullptr, libpq().PQfinish) {
    if (const std::string& problem = libpq().library.problem(); !problem.empty()) {
      throw base::Failure(base::error_at("JR-521", Place{place_, 0, 0},
                                         fmt::format("the client library of PostgreSQL is not here ({})", problem),
                                         "install it: apt install libpq5"));
    }
    connection_.reset(libpq().PQconnectdb(place_.c_str()));
    if (connection_ == nullptr) throw std::bad_alloc();
    if (libpq().PQstatus(connection_.get()) != CONNECTION_OK)
      fail("the server can't be reached", "", "passwords are taken from ~/.pgpass, a service file or PGPASSWORD");
    libpq().PQsetNoticeProcessor(
        connection_.get(), [](void*, const char*) {}, nullptr);
    if (libpq().PQsetClientEncoding(connection_.get(), "UTF8") != 0) fail("the server gives no UTF-8");
    for (const char* const setting : {"SET TIME ZONE 'UTC'", "SET datestyle = 'ISO'", "SET intervalstyle = 'iso_8601'",
                                      "SET extra_float_digits = 1"})
      run(setting);
    begin();
  }

  // One statement; more than one are refused by the protocol.
  Answer run(const std::string& statement, const std::vector<const char*>& values = {}) {
    Answer answer(libpq().PQexecParams(connection_.get(), statement.c_str(), static_cast<int>(values.size()), nullptr,
                                       values.data(), nullptr, nullptr, 0),
                  libpq().PQclear);
    const ExecStatusType status = libpq().PQresultStatus(answer.get());
    if (status != PGRES_COMMAND_OK && status != PGRES_TUPLES_OK && status != PGRES_COPY_OUT) {
      // What could not be run has ended the transaction.
      const std::string why = libpq().PQerrorMessage(connection_.get());
      restart();
      fail("the server can't run: " + base::shortened(statement, 300), why);
    }
    return answer;
  }

  void restart() {
    Answer(libpq().PQexec(connection_.get(), "ROLLBACK"), libpq().PQclear);
    begin();
  }

  // Stops what is copied out.
  void cancel() {
    if (PGcancel* const cancel = libpq().PQgetCancel(connection_.get())) {
      char why[256];
      libpq().PQcancel(cancel, why, sizeof(why));
      libpq().PQfreeCancel(cancel);
    }
    finish_copy();
    restart();
  }

  // Reads on to the end of what is copied out; false if it did not end well.
  bool finish_copy() {
    char* row = nullptr;
    while (libpq().PQgetCopyData(connection_.get(), &row, 0) > 0) libpq().PQfreemem(row);
    bool is_well = true;
    while (PGresult* const answer = libpq().PQgetResult(connection_.get())) {
      is_well = is_well && libpq().PQresultStatus(answer) == PGRES_COMMAND_OK;
      libpq().PQclear(answer);
    }
    return is_well;
  }

  [[noreturn]] void fail(const std::string& what, std::string why = "", const std::string& suggestion = "") const {
    if (why.empty()) why = libpq().PQerrorMessage(connection_.get());
    while (!why.empty() && why.back() == '\n') why.pop_back();
    throw base::Failure(
        base::error_at("JR-521", Place{place_, 0, 0}, fmt::format("{} ({})", what, base::one_line(why)), suggestion));
  }

  PGconn* connection() const { return connection_.get(); }
  const std::string& place() const { return place_; }

 private:
  void begin() {
    // Not by run, which would begin anew for ever.
    const Answer answer(libpq().PQexec(connection_.get(), "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"),
                        libpq().PQclear);
    if (libpq().PQresultStatus(answer.get()) != PGRES_COMMAND_OK) fail("the server begins no transaction");
  }

  std::string place_;
  std::unique_ptr<PGconn, decltype(&::PQfinish)> connection_;
};

// What is copied out, as bytes.
class CopiedOut {
 public:
  explicit CopiedOut(PostgresqlServer& server) : server_(&server) {}
  ~CopiedOut() {
    if (!ended_) server_->cancel();
    libpq().PQfreemem(row_);
  }
  CopiedOut(const CopiedOut&) = delete;
  CopiedOut& operator=(const CopiedOut&) = delete;

  std::size_t read(std::span<char> out) {
    std::size_t done = 0;
    while (done < out.size() && (at_ < size_ || next_row())) {
      const std::size_t part = std::min(size_ - at_, out.size() - done);
      std::memcpy(out.data() + done, row_ + at_, part);
      at_ += part;
      done += part;
    }
    return done;
  }

 private:
  bool next_row() {
    if (ended_) return false;
    libpq().PQfreemem(row_);
    row_ = nullptr;
    at_ = 0;
    const int size = libpq().PQgetCopyData(server_->connection(), &row_, 0);
    size_ = static_cast<std::size_t>(std::max(size, 0));
    if (size > 0) return true;
    ended_ = true;
    // The server may have failed in the middle: a part of a table is none.
    const bool is_well = server_->finish_copy();
    if (size != -1 || !is_well) {
      const std::string why = libpq().PQerrorMessage(server_->connection());
      if (libpq().PQstatus(server_->connection()) == CONNECTION_OK) server_->restart();
      server_->fail("the server stopped in the middle of the rows", why);
    }
    return false;
  }

  PostgresqlServer* server_;
  char* row_ = nullptr;
  std::size_t size_ = 0;
  std::size_t at_ = 0;
  bool ended_ = false;
};

// What stands behind FROM.
std::string relation_of(PostgresqlServer& server, const TableRequest& request) {
  const base::Selection& selection = request.place.selection;
  if (selection.kind == base::Selection::Kind::query) return fmt::format("({}\n) AS rows_of_source", selection.text);
  // A point in a name stands between a schema and a table, unless a table has that very name.
  const std::string whole = base::sql_name(selection.text);
  const std::size_t point = selection.text.find('.');
  const std::string parts = point == std::string::npos ? whole
                                                       : base::sql_name(selection.text.substr(0, point)) + "." +
                                                             base::sql_name(selection.text.substr(point + 1));
  const Answer known =
      server.run("SELECT to_regclass($1) IS NOT NULL, to_regclass($2) IS NOT NULL", {whole.c_str(), parts.c_str()});
  const auto is_known = [&](int column) { return *libpq().PQgetvalue(known.get(), 0, column) == 't'; };
  if (is_known(0)) return whole;
  if (is_known(1)) return parts;
  throw base::Failure(base::error_at("JR-521", Place{server.place(), 0, 0},
                                     fmt::format("this server has no table '{}'", selection.text),
                                     "write its schema, too, if it is not on the search path: table \"schema.name\""));
}

// The statement that copies the requested columns out.
std::string copy_of(PostgresqlServer& server, const TableRequest& request) {
  const std::string relation = relation_of(server, request);
  const Answer described = server.run(fmt::format("SELECT * FROM {} LIMIT 0", relation));
  std::vector<std::string> names;
  for (int c = 0; c < libpq().PQnfields(described.get()); ++c) names.emplace_back(libpq().PQfname(described.get(), c));
  const auto positions = find_columns(request, names, server.place(), 0);
  if (!positions) throw base::Failure(positions.error());
  // The object numbers of types are the same on all servers.
  constexpr Oid of_boolean = 16;
  constexpr Oid of_timestamp_with_zone = 1184;
  std::string columns;
  // Parts of one column are read from it once.
  for (const std::size_t position : std::set<std::size_t>(positions->begin(), positions->end())) {
    const std::string name = base::sql_name(names[position]);
    const Oid type = libpq().PQftype(described.get(), static_cast<int>(position));
    std::string written = name;
    if (type == of_boolean) written = fmt::format("{0}::text AS {0}", name);
    if (type == of_timestamp_with_zone) written = fmt::format("{0} AT TIME ZONE 'UTC' AS {0}", name);
    columns += written + ", ";
  }
  // A column more, so that a record of nulls is not an empty line.
  return fmt::format("COPY (SELECT {}1 AS \"\x01\" FROM {}) TO STDOUT (FORMAT csv, HEADER)", columns, relation);
}

}  // namespace

Result<TableInput> read_postgresql(const TableRequest& request, const std::vector<std::filesystem::path>& places,
                                   const ReadSettings& settings) {
  return base::guarded([&] {
    return read_csv(request, places, settings, [&](const std::filesystem::path& place) {
      return base::guarded([&]() -> Result<ByteSource> {
        const auto open = [&] { return std::make_unique<PostgresqlServer>(place.string()); };
        const std::shared_ptr<PostgresqlServer> own = settings.connections != nullptr ? nullptr : open();
        PostgresqlServer& server =
            own ? *own : static_cast<PostgresqlServer&>(settings.connections->of("postgresql " + place.string(), open));
        server.run(copy_of(server, request));
        const auto rows = std::make_shared<CopiedOut>(server);
        // The connection lives as long as what is read from it.
        return ByteSource::fed_by(place.string(), [own, rows](std::span<char> out) { return rows->read(out); });
      });
    });
  });
}

}  // namespace juniper::source
