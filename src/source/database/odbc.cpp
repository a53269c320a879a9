#include "source/database/odbc.h"

#include <fmt/format.h>
#include <sql.h>
#include <sqlext.h>
#include <utf8.h>

#include <algorithm>
#include <array>
#include <memory>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/loaded_library.h"
#include "base/shown_text.h"

namespace juniper::source {

namespace {

// The driver manager, as far as it is used.
struct DriverManager {
  base::LoadedLibrary library{"libodbc.so.2"};
  decltype(&::SQLAllocHandle) SQLAllocHandle = library.function<decltype(&::SQLAllocHandle)>("SQLAllocHandle");
  decltype(&::SQLDescribeCol) SQLDescribeCol = library.function<decltype(&::SQLDescribeCol)>("SQLDescribeCol");
  decltype(&::SQLDisconnect) SQLDisconnect = library.function<decltype(&::SQLDisconnect)>("SQLDisconnect");
  decltype(&::SQLDriverConnect) SQLDriverConnect = library.function<decltype(&::SQLDriverConnect)>("SQLDriverConnect");
  decltype(&::SQLEndTran) SQLEndTran = library.function<decltype(&::SQLEndTran)>("SQLEndTran");
  decltype(&::SQLExecDirect) SQLExecDirect = library.function<decltype(&::SQLExecDirect)>("SQLExecDirect");
  decltype(&::SQLFetch) SQLFetch = library.function<decltype(&::SQLFetch)>("SQLFetch");
  decltype(&::SQLFreeHandle) SQLFreeHandle = library.function<decltype(&::SQLFreeHandle)>("SQLFreeHandle");
  decltype(&::SQLGetData) SQLGetData = library.function<decltype(&::SQLGetData)>("SQLGetData");
  decltype(&::SQLGetDiagRec) SQLGetDiagRec = library.function<decltype(&::SQLGetDiagRec)>("SQLGetDiagRec");
  decltype(&::SQLGetInfo) SQLGetInfo = library.function<decltype(&::SQLGetInfo)>("SQLGetInfo");
  decltype(&::SQLNumResultCols) SQLNumResultCols = library.function<decltype(&::SQLNumResultCols)>("SQLNumResultCols");
  decltype(&::SQLSetConnectAttr) SQLSetConnectAttr =
      library.function<decltype(&::SQLSetConnectAttr)>("SQLSetConnectAttr");
  decltype(&::SQLSetEnvAttr) SQLSetEnvAttr = library.function<decltype(&::SQLSetEnvAttr)>("SQLSetEnvAttr");
};

const DriverManager& odbc() {
  static const DriverManager functions;
  return functions;
}

// A handle of one of the kinds that the standard has.
template <SQLSMALLINT kind>
class Handle {
 public:
  explicit Handle(SQLHANDLE from) {
    if (!SQL_SUCCEEDED(odbc().SQLAllocHandle(kind, from, &handle_))) throw std::bad_alloc();
  }
  ~Handle() { odbc().SQLFreeHandle(kind, handle_); }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;
  SQLHANDLE get() const { return handle_; }

  // What the driver says of the last call.
  std::string problem() const {
    std::array<SQLCHAR, 6> state{};
    std::array<SQLCHAR, 1024> text{};
    SQLINTEGER native = 0;
    SQLSMALLINT length = 0;
    if (!SQL_SUCCEEDED(odbc().SQLGetDiagRec(kind, handle_, 1, state.data(), &native, text.data(),
                                            static_cast<SQLSMALLINT>(text.size()), &length)))
      return "the driver gives no reason";
    return base::one_line(reinterpret_cast<const char*>(text.data()));
  }

 private:
  SQLHANDLE handle_ = nullptr;
};

// The driver manager takes its arguments as changeable.
SQLCHAR* characters(const std::string& text) {
  return reinterpret_cast<SQLCHAR*>(const_cast<char*>(text.c_str()));
}

class OdbcServer : public Connections::Connection {
 public:
  explicit OdbcServer(std::string place)
      : place_(checked(std::move(place))),
        environment_(SQL_NULL_HANDLE),
        connection_(with_version(environment_.get())) {
    odbc().SQLSetConnectAttr(connection_.get(), SQL_ATTR_ACCESS_MODE, reinterpret_cast<SQLPOINTER>(SQL_MODE_READ_ONLY),
                             0);
    if (!SQL_SUCCEEDED(odbc().SQLDriverConnect(connection_.get(), nullptr, characters(place_), SQL_NTS, nullptr, 0,
                                               nullptr, SQL_DRIVER_NOPROMPT)))
      fail("this data source can't be reached", connection_.problem(),
           "passwords are taken from the data source's settings (odbc.ini)");
    // One moment for all that is read, where the driver can do that.
    odbc().SQLSetConnectAttr(connection_.get(), SQL_ATTR_TXN_ISOLATION,
                             reinterpret_cast<SQLPOINTER>(SQL_TXN_SERIALIZABLE), 0);
    odbc().SQLSetConnectAttr(connection_.get(), SQL_ATTR_AUTOCOMMIT, reinterpret_cast<SQLPOINTER>(SQL_AUTOCOMMIT_OFF),
                             0);
  }
  ~OdbcServer() override {
    odbc().SQLEndTran(SQL_HANDLE_DBC, connection_.get(), SQL_ROLLBACK);
    odbc().SQLDisconnect(connection_.get());
  }

  [[noreturn]] void fail(const std::string& what, const std::string& why, const std::string& suggestion = "") const {
    throw base::Failure(base::error_at("JR-521", Place{place_, 0, 0}, fmt::format("{} ({})", what, why), suggestion));
  }
  SQLHANDLE connection() const { return connection_.get(); }
  const std::string& place() const { return place_; }

  std::string quoted(const std::string& name) const {
    std::array<SQLCHAR, 8> mark{};
    SQLSMALLINT length = 0;
    odbc().SQLGetInfo(connection_.get(), SQL_IDENTIFIER_QUOTE_CHAR, mark.data(), static_cast<SQLSMALLINT>(mark.size()),
                      &length);
    const std::string quote(reinterpret_cast<const char*>(mark.data()));
    if (quote.empty() || quote == " ") return name;
    std::string out = quote;
    for (const char c : name) {
      out += c;
      if (c == quote[0]) out += c;
    }
    return out + quote;
  }

 private:
  // The driver manager is looked for before it is used.
  static std::string checked(std::string place) {
    if (const std::string& problem = odbc().library.problem(); !problem.empty()) {
      throw base::Failure(base::error_at("JR-521", Place{place, 0, 0},
                                         fmt::format("the driver manager of ODBC is not here ({})", problem),
                                         "install it: apt install unixodbc"));
    }
    return place;
  }
  static SQLHANDLE with_version(SQLHANDLE environment) {
    odbc().SQLSetEnvAttr(environment, SQL_ATTR_ODBC_VERSION, reinterpret_cast<SQLPOINTER>(SQL_OV_ODBC3), 0);
    return environment;
  }

  std::string place_;
  Handle<SQL_HANDLE_ENV> environment_;
  Handle<SQL_HANDLE_DBC> connection_;
};

// A column of what a statement gives.
struct ResultColumn {
  std::string name;
  SQLSMALLINT type = 0;
};

class OdbcStatement {
 public:
  OdbcStatement(const OdbcServer& server, const std::string& sql) : server_(server), handle_(server.connection()) {
    if (!SQL_SUCCEEDED(odbc().SQLExecDirect(handle_.get(), characters(sql), SQL_NTS)))
      fail("this data source can't run: " + base::shortened(sql, 300));
    SQLSMALLINT count = 0;
    odbc().SQLNumResultCols(handle_.get(), &count);
    if (count == 0) {
      throw base::Failure(base::error_at("JR-521", Place{server.place(), 0, 0},
                                         "this is no query: " + base::shortened(sql, 300), "write one select"));
    }
    for (SQLSMALLINT c = 1; c <= count; ++c) {
      std::array<SQLCHAR, 512> name{};
      SQLSMALLINT length = 0;
      SQLULEN size = 0;
      SQLSMALLINT digits = 0;
      SQLSMALLINT nullable = 0;
      ResultColumn column;
      if (!SQL_SUCCEEDED(odbc().SQLDescribeCol(handle_.get(), static_cast<SQLUSMALLINT>(c), name.data(),
                                               static_cast<SQLSMALLINT>(name.size()), &length, &column.type, &size,
                                               &digits, &nullable)))
        fail("this data source does not describe its columns");
      column.name = reinterpret_cast<const char*>(name.data());
      columns_.push_back(std::move(column));
    }
  }

  const std::vector<ResultColumn>& columns() const { return columns_; }

  bool step() {
    const SQLRETURN done = odbc().SQLFetch(handle_.get());
    if (done == SQL_NO_DATA) return false;
    if (!SQL_SUCCEEDED(done)) fail("this data source can't be read on");
    return true;
  }

  // Columns of a row must be read in their order.
  Cell value(std::size_t column, Cells& cells) {
    switch (columns_[column].type) {
      case SQL_TINYINT:
      case SQL_SMALLINT:
      case SQL_INTEGER:
      case SQL_BIGINT: {
        SQLBIGINT number = 0;
        return get(column, SQL_C_SBIGINT, number) ? Cell::of_integer(number) : Cell();
      }
      case SQL_BIT: {
        unsigned char truth = 0;
        return get(column, SQL_C_BIT, truth) ? Cell::of_plain(truth != 0 ? "true" : "false") : Cell();
      }
      case SQL_REAL:
      case SQL_FLOAT:
      case SQL_DOUBLE: {
        double number = 0;
        return get(column, SQL_C_DOUBLE, number) ? Cell::of_real(number) : Cell();
      }
      case SQL_TYPE_DATE: {
        SQL_DATE_STRUCT day{};
        if (!get(column, SQL_C_TYPE_DATE, day)) return {};
        return Cell::of_plain(cells.keep(fmt::format("{:04}-{:02}-{:02}", day.year, day.month, day.day)));
      }
      case SQL_TYPE_TIME: {
        SQL_TIME_STRUCT time{};
        if (!get(column, SQL_C_TYPE_TIME, time)) return {};
        return Cell::of_plain(cells.keep(fmt::format("{:02}:{:02}:{:02}", time.hour, time.minute, time.second)));
      }
      case SQL_TYPE_TIMESTAMP: {
        SQL_TIMESTAMP_STRUCT at{};
        if (!get(column, SQL_C_TYPE_TIMESTAMP, at)) return {};
        return Cell::of_plain(cells.keep(fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:06}", at.year, at.month,
                                                     at.day, at.hour, at.minute, at.second, at.fraction / 1000)));
      }
      case SQL_DECIMAL:
      case SQL_NUMERIC: {
        const auto text = get_text(column);
        return text ? Cell::of_plain(cells.keep(*text)) : Cell();
      }
      default: {
        const auto text = get_text(column);
        return text ? Cell::of_text(cells.keep(*text)) : Cell();
      }
    }
  }

 private:
  [[noreturn]] void fail(const std::string& what) const { server_.fail(what, handle_.problem()); }

  // False for null.
  template <class Number>
  bool get(std::size_t column, SQLSMALLINT type, Number& number) {
    SQLLEN length = 0;
    if (!SQL_SUCCEEDED(odbc().SQLGetData(handle_.get(), static_cast<SQLUSMALLINT>(column + 1), type, &number,
                                         sizeof(number), &length)))
      fail(fmt::format("this data source does not give its column '{}'", columns_[column].name));
    return length != SQL_NULL_DATA;
  }

  // In UTF-16, which every driver gives in the same way; longer texts come in parts.
  std::optional<std::string> get_text(std::size_t column) {
    std::u16string all;
    std::array<SQLWCHAR, 1024> part{};
    while (true) {
      SQLLEN length = 0;
      const SQLRETURN done = odbc().SQLGetData(handle_.get(), static_cast<SQLUSMALLINT>(column + 1), SQL_C_WCHAR,
                                               part.data(), part.size() * sizeof(SQLWCHAR), &length);
      if (done == SQL_NO_DATA) break;
      if (!SQL_SUCCEEDED(done))
        fail(fmt::format("this data source does not give its column '{}'", columns_[column].name));
      if (length == SQL_NULL_DATA) return std::nullopt;
      // The length is that of all that is left; of a part that is not the last, all but the zero at its end is there.
      const std::size_t most = part.size() - 1;
      const bool is_last =
          done == SQL_SUCCESS || (length >= 0 && static_cast<std::size_t>(length) / sizeof(SQLWCHAR) <= most);
      const std::size_t count =
          is_last && length >= 0 ? std::min(static_cast<std::size_t>(length) / sizeof(SQLWCHAR), most) : most;
      for (std::size_t i = 0; i < count; ++i) all += static_cast<char16_t>(part[i]);
      if (is_last) break;
    }
    std::string text;
    // Halves of pairs alone are no characters.
    try {
      utf8::utf16to8(all.begin(), all.end(), std::back_inserter(text));
    } catch (const utf8::invalid_utf16&) {
      text = "\xFF";
    }
    return text;
  }

  const OdbcServer& server_;
  Handle<SQL_HANDLE_STMT> handle_;
  std::vector<ResultColumn> columns_;
};

std::string odbc_select(const OdbcServer& server, const base::Selection& selection) {
  if (selection.kind == base::Selection::Kind::query) return selection.text;
  const std::size_t point = selection.text.find('.');
  if (point == std::string::npos) return "SELECT * FROM " + server.quoted(selection.text);
  return fmt::format("SELECT * FROM {}.{}", server.quoted(selection.text.substr(0, point)),
                     server.quoted(selection.text.substr(point + 1)));
}

std::vector<std::string> odbc_names(const OdbcStatement& statement) {
  std::vector<std::string> names;
  for (const ResultColumn& column : statement.columns()) names.push_back(column.name);
  return names;
}

class OdbcSource : public RecordSource {
 public:
  OdbcSource(const TableRequest& request, const std::filesystem::path& place, Connections* connections)
      : request_(request) {
    const auto open = [&] { return std::make_unique<OdbcServer>(place.string()); };
    if (connections == nullptr) own_ = open();
    const OdbcServer& server =
        own_ ? *own_ : static_cast<const OdbcServer&>(connections->of("odbc " + place.string(), open));
    statement_.emplace(server, odbc_select(server, request.place.selection));
    const auto positions = find_columns(request, odbc_names(*statement_), server.place(), 0);
    if (!positions) throw base::Failure(positions.error());
    for (std::size_t c = 0; c < positions->size(); ++c) order_.emplace_back((*positions)[c], c);
    std::sort(order_.begin(), order_.end());
  }

  std::unique_ptr<RecordPiece> next() override {
    if (at_end_) return nullptr;
    Cells cells(request_.columns.size());
    std::uint32_t row = 0;
    while (row < rows_of_record_piece && cells.kept_bytes() < bytes_of_record_piece) {
      at_end_ = !statement_->step();
      if (at_end_) break;
      cells.add_row(row++);
      for (std::size_t i = 0; i < order_.size(); ++i) {
        const auto [position, column] = order_[i];
        // What several columns are parts of is given once.
        const bool again = i > 0 && order_[i - 1].first == position;
        cells.last(column) = again ? Cell(cells.last(order_[i - 1].second)) : statement_->value(position, cells);
      }
    }
    cells.set_lines(row);
    return row == 0 ? nullptr : std::make_unique<ReadRecords>(std::move(cells));
  }
  std::uint64_t bytes_read() const override { return 0; }
  void finish(SourceFile&) const override {}

 private:
  const TableRequest& request_;
  std::unique_ptr<OdbcServer> own_;
  std::optional<OdbcStatement> statement_;
  std::vector<std::pair<std::size_t, std::size_t>> order_;  // positions in the result, and columns of the request
  bool at_end_ = false;
};

std::unique_ptr<RecordSource> open_odbc(const TableRequest& request, const std::filesystem::path& place,
                                        Connections* connections) {
  return std::make_unique<OdbcSource>(request, place, connections);
}

std::vector<RecordColumn> columns_of_odbc(const TableRequest& request, const std::filesystem::path& place) {
  const OdbcServer server(place.string());
  const OdbcStatement statement(server, odbc_select(server, request.place.selection));
  std::vector<RecordColumn> columns;
  for (std::string& name : odbc_names(statement)) columns.push_back({std::move(name), std::nullopt});
  return columns;
}

}  // namespace

RecordKind odbc_kind() {
  return {open_odbc, columns_of_odbc, true};
}

}  // namespace juniper::source
