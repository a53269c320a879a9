// PostgreSQL servers: one transaction, which reads only and sees one moment.
#include <fmt/format.h>
#include <poll.h>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "live/place.h"
#include "source/database/postgresql_server.h"
#include "sql/dialect.h"

namespace juniper::live {

namespace {

using source::libpq;
using source::PostgresqlServer;

class PostgresqlPlace final : public Place {
 public:
  explicit PostgresqlPlace(const std::string& place) : server_(place), dialect_(postgresql_dialect()) {}

  std::string name() const override { return "postgresql " + server_.place(); }
  const Dialect& dialect() const override { return *dialect_; }

  std::string relation(const base::Selection& selection) override {
    if (selection.kind == base::Selection::Kind::query) return fmt::format("({}\n)", selection.text);
    return server_.relation(selection.text);
  }

  std::map<std::string, std::string> columns(const std::string& relation) override {
    const auto described = server_.run(fmt::format("SELECT * FROM {} AS t LIMIT 0", relation));
    std::map<std::string, std::string> columns;
    for (int c = 0; c < libpq().PQnfields(described.get()); ++c) {
      const std::string type = std::to_string(libpq().PQftype(described.get(), c));
      const std::string modifier = std::to_string(libpq().PQfmod(described.get(), c));
      const auto named = server_.run("SELECT format_type($1::oid, $2::int)", {type.c_str(), modifier.c_str()});
      columns.emplace(libpq().PQfname(described.get(), c), without_length(libpq().PQgetvalue(named.get(), 0, 0)));
    }
    // Where different texts are equal, texts are compared byte by byte.
    const auto blurred = server_.run("SELECT EXISTS (SELECT 1 FROM pg_collation WHERE NOT collisdeterministic)");
    if (*libpq().PQgetvalue(blurred.get(), 0, 0) != 't') return columns;
    for (auto& [name, type] : columns) {
      if (type == "text" || type.starts_with("character")) type = "blurred " + type;
    }
    return columns;
  }

  engine::LiveSizes sizes(const base::Selection& selection) override {
    engine::LiveSizes sizes;
    if (selection.kind == base::Selection::Kind::query) return sizes;
    const Type number{TypeKind::integer, 0};
    // With all partitions.
    const Answer answer = ask(fmt::format("SELECT COALESCE(SUM(pg_table_size(relid)), pg_table_size({0}::regclass)), "
                                          "COALESCE(SUM(pg_indexes_size(relid)), pg_indexes_size({0}::regclass)) "
                                          "FROM pg_partition_tree({0}::regclass)",
                                          sql_engine::text_literal(relation(selection))),
                              {number, number}, nullptr);
    if (answer.rows() != 1 || answer.value(0, 0).is_null()) return sizes;
    sizes.bytes = static_cast<std::uint64_t>(answer.value(0, 0).exact());
    sizes.index_bytes = static_cast<std::uint64_t>(answer.value(1, 0).exact());
    return sizes;
  }

  Answer ask(const std::string& text, const std::vector<Type>& types, const engine::Watch* watch) override {
    const auto rows = server_.run_watched(text, [&] {
      if (watch != nullptr) watch->check();
    });
    Answer answer(types);
    for (int row = 0; row < libpq().PQntuples(rows.get()); ++row) {
      for (int c = 0; c < static_cast<int>(types.size()); ++c) {
        if (libpq().PQgetisnull(rows.get(), row, c) != 0) {
          answer.add_null();
        } else {
          answer.add_text({libpq().PQgetvalue(rows.get(), row, c),
                           static_cast<std::size_t>(libpq().PQgetlength(rows.get(), row, c))});
        }
      }
    }
    return answer;
  }

 private:
  // Of texts and moments, how long they may be tells nothing.
  static std::string without_length(std::string type) {
    const std::size_t open = type.find('(');
    if (type.starts_with("numeric") || open == std::string::npos) return type;
    const std::size_t close = type.find(')', open);
    return type.erase(open, close - open + 1);
  }

  PostgresqlServer server_;
  std::unique_ptr<Dialect> dialect_;
};

}  // namespace

std::unique_ptr<Place> open_postgresql(const std::string& place) {
  return std::make_unique<PostgresqlPlace>(place);
}

}  // namespace juniper::live
