#include "source/database/postgresql_server.h"

#include <fmt/format.h>
#include <poll.h>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "base/sql_name.h"

namespace juniper::source {

const Libpq& libpq() {
  static const Libpq functions;
  return functions;
}

PostgresqlServer::PostgresqlServer(std::string place)
    : place_(std::move(place)), connection_(nullptr, libpq().PQfinish) {
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
  for (const char* const setting :
       {"SET TIME ZONE 'UTC'", "SET datestyle = 'ISO'", "SET intervalstyle = 'iso_8601'", "SET extra_float_digits = 1"})
    run(setting);
  begin();
}

PostgresqlServer::Answer PostgresqlServer::run(const std::string& statement, const std::vector<const char*>& values) {
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

PostgresqlServer::Answer PostgresqlServer::run_watched(const std::string& statement,
                                                       const std::function<void()>& check) {
  const auto fail_here = [&] {
    const std::string why = libpq().PQerrorMessage(connection_.get());
    if (libpq().PQstatus(connection_.get()) == CONNECTION_OK) restart();
    fail("the server can't run this", why, "it was asked: " + base::shortened(statement, 2000));
  };
  if (libpq().PQsendQueryParams(connection_.get(), statement.c_str(), 0, nullptr, nullptr, nullptr, nullptr, 0) == 0)
    fail_here();
  while (libpq().PQisBusy(connection_.get()) != 0) {
    try {
      check();
    } catch (...) {
      cancel();
      throw;
    }
    constexpr int milliseconds = 20;
    pollfd socket{libpq().PQsocket(connection_.get()), POLLIN, 0};
    poll(&socket, 1, milliseconds);
    if (libpq().PQconsumeInput(connection_.get()) == 0) break;
  }
  Answer answer(nullptr, libpq().PQclear);
  while (PGresult* const next = libpq().PQgetResult(connection_.get())) {
    // The first that is wrong tells why.
    const bool is_wrong = answer != nullptr && libpq().PQresultStatus(answer.get()) != PGRES_TUPLES_OK;
    is_wrong ? libpq().PQclear(next) : answer.reset(next);
  }
  if (answer == nullptr || libpq().PQresultStatus(answer.get()) != PGRES_TUPLES_OK) fail_here();
  return answer;
}

void PostgresqlServer::restart() {
  Answer(libpq().PQexec(connection_.get(), "ROLLBACK"), libpq().PQclear);
  begin();
}

void PostgresqlServer::cancel() {
  interrupt();
  finish_copy();
  restart();
}

void PostgresqlServer::interrupt() const {
  if (PGcancel* const cancel = libpq().PQgetCancel(connection_.get())) {
    char why[256];
    libpq().PQcancel(cancel, why, sizeof(why));
    libpq().PQfreeCancel(cancel);
  }
}

bool PostgresqlServer::finish_copy() {
  char* row = nullptr;
  while (libpq().PQgetCopyData(connection_.get(), &row, 0) > 0) libpq().PQfreemem(row);
  bool is_well = true;
  while (PGresult* const answer = libpq().PQgetResult(connection_.get())) {
    is_well = is_well && libpq().PQresultStatus(answer) == PGRES_COMMAND_OK;
    libpq().PQclear(answer);
  }
  return is_well;
}

void PostgresqlServer::fail(const std::string& what, std::string why, const std::string& suggestion) const {
  if (why.empty()) why = libpq().PQerrorMessage(connection_.get());
  while (!why.empty() && why.back() == '\n') why.pop_back();
  throw base::Failure(
      base::error_at("JR-521", Place{place_, 0, 0}, fmt::format("{} ({})", what, base::one_line(why)), suggestion));
}

std::string PostgresqlServer::relation(const std::string& table) {
  // A point in a name stands between a schema and a table, unless a table has that very name.
  const std::string whole = base::sql_name(table);
  const std::size_t point = table.find('.');
  const std::string parts = point == std::string::npos ? whole
                                                       : base::sql_name(table.substr(0, point)) + "." +
                                                             base::sql_name(table.substr(point + 1));
  const Answer known =
      run("SELECT to_regclass($1) IS NOT NULL, to_regclass($2) IS NOT NULL", {whole.c_str(), parts.c_str()});
  const auto is_known = [&](int column) { return *libpq().PQgetvalue(known.get(), 0, column) == 't'; };
  if (is_known(0)) return whole;
  if (is_known(1)) return parts;
  throw base::Failure(base::error_at("JR-521", Place{place_, 0, 0}, fmt::format("this server has no table '{}'", table),
                                     "write its schema, too, if it is not on the search path: table \"schema.name\""));
}

void PostgresqlServer::begin() {
  // Not by run, which would begin anew for ever.
  const Answer answer(libpq().PQexec(connection_.get(), "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"),
                      libpq().PQclear);
  if (libpq().PQresultStatus(answer.get()) != PGRES_COMMAND_OK) fail("the server begins no transaction");
}

}  // namespace juniper::source
