#include "source/database/postgresql.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "base/sql_name.h"
#include "source/csv/table.h"
#include "source/database/postgresql_server.h"

namespace juniper::source {

namespace {

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
  return server.relation(selection.text);
}

// The statement that copies the requested columns out.
std::string copy_of(PostgresqlServer& server, const TableRequest& request) {
  const std::string relation = relation_of(server, request);
  const PostgresqlServer::Answer described = server.run(fmt::format("SELECT * FROM {} LIMIT 0", relation));
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
