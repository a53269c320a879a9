// A connection to a PostgreSQL server, by its own client library, which is looked for when it is first needed.
#pragma once

#include <libpq-fe.h>

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/loaded_library.h"
#include "source/source.h"

namespace juniper::source {

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
  decltype(&::PQntuples) PQntuples = library.function<decltype(&::PQntuples)>("PQntuples");
  decltype(&::PQgetisnull) PQgetisnull = library.function<decltype(&::PQgetisnull)>("PQgetisnull");
  decltype(&::PQgetlength) PQgetlength = library.function<decltype(&::PQgetlength)>("PQgetlength");
  decltype(&::PQfmod) PQfmod = library.function<decltype(&::PQfmod)>("PQfmod");
  decltype(&::PQsendQueryParams) PQsendQueryParams =
      library.function<decltype(&::PQsendQueryParams)>("PQsendQueryParams");
  decltype(&::PQconsumeInput) PQconsumeInput = library.function<decltype(&::PQconsumeInput)>("PQconsumeInput");
  decltype(&::PQisBusy) PQisBusy = library.function<decltype(&::PQisBusy)>("PQisBusy");
  decltype(&::PQsocket) PQsocket = library.function<decltype(&::PQsocket)>("PQsocket");
  decltype(&::PQstatus) PQstatus = library.function<decltype(&::PQstatus)>("PQstatus");
};

const Libpq& libpq();

// One transaction that reads only, and sees one moment; times in UTC, texts in UTF-8.
class PostgresqlServer : public Connections::Connection {
 public:
  using Answer = std::unique_ptr<PGresult, decltype(&::PQclear)>;

  // Connects. Throws a base::Failure with JR-521, as all that fails does.
  explicit PostgresqlServer(std::string place);

  // One statement; more than one are refused by the protocol.
  Answer run(const std::string& statement, const std::vector<const char*>& values = {});
  // One statement; `check` is called every few milliseconds, and what it throws ends the statement on the server.
  Answer run_watched(const std::string& statement, const std::function<void()>& check);
  // Ends the transaction and begins another.
  void restart();
  // Stops what is copied out.
  void cancel();
  // Asks the server to stop the statement that it runs for this connection; from any thread.
  void interrupt() const;
  // Reads on to the end of what is copied out; false if it did not end well.
  bool finish_copy();
  [[noreturn]] void fail(const std::string& what, std::string why = "", const std::string& suggestion = "") const;
  // The name of a table as it stands behind FROM: a point stands between a schema and a table, unless a table has that
  // very name.
  std::string relation(const std::string& table);

  PGconn* connection() const { return connection_.get(); }
  const std::string& place() const { return place_; }

 private:
  void begin();

  std::string place_;
  std::unique_ptr<PGconn, decltype(&::PQfinish)> connection_;
};

}  // namespace juniper::source
