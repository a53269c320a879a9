#include "support/three_ways.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "engine/naive/naive.h"
#include "engine/query/ask.h"
#include "juniper/sql.h"
#include "sql/sqlite.h"
#include "sql/translate.h"
#include "store/store.h"
#include "support/support.h"

namespace juniper::test {

namespace {

bool same_value(const Value& a, const Value& b) {
  if (a.kind() != b.kind()) return false;
  if (a.kind() != Value::Kind::real) return a == b;
  return std::abs(a.real() - b.real()) <= 1e-9 * std::max({std::abs(a.real()), std::abs(b.real()), 100.0});
}

bool same_number(const Value& a, const Value& b) {
  if (a.kind() != b.kind()) return false;
  if (a.kind() != Value::Kind::real) return a == b;
  const double apart = std::abs(a.real() - b.real());
  return apart <= 1e-7 || apart <= 1e-9 * std::max(std::abs(a.real()), std::abs(b.real()));
}

}  // namespace

std::string column_difference(const Dataset& dataset, language::ColumnId id) {
  const engine::Source source = engine::source_of(dataset);
  const language::NodePtr& expression = source.model.column(id).expression;
  const store::Column& stored = source.column(id);
  const auto naive = [&] {
    engine::naive::StoreData data(source);
    return engine::evaluate_rows_naively(source.model, data, source.setting, id.table, expression);
  }();
  if (!naive) return test::messages(naive.error());
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    if (same_value(stored.at(row), (*naive)[row])) continue;
    return fmt::format("row {}: stored {}, naive {}", row, to_text(stored.at(row), stored.type),
                       to_text((*naive)[row], stored.type));
  }
  auto database = sql_engine::Sqlite::open();
  if (!database) return test::messages(database.error());
  for (language::TableIndex t = 0; t < source.model.tables.size(); ++t) {
    if (auto added = database->add_table(source, t); !added) return test::messages(added.error());
  }
  const std::string statement = sql_engine::translate_column(source.model, id.table, expression, source.setting.today,
                                                             *sql_engine::sqlite_dialect());
  const engine::Watch watch(dataset.options());
  const auto rows = database->run(statement, {Type{TypeKind::integer, 0}, stored.type}, watch);
  if (!rows) {
    const std::string said = test::messages(rows.error());
    return said.find("parser stack overflow") != std::string::npos ? "" : said;
  }
  // Where rows were sorted, they are numbered as they came.
  std::map<int128, Value> by_number;
  for (const auto& row : *rows) by_number.emplace(row[0].exact(), row[1]);
  const store::StoredTable& table = source.store.tables[id.table];
  for (std::uint64_t row = 0; row < stored.rows; ++row) {
    const std::uint64_t number =
        table.file_order == store::no_column ? row : table.columns[table.file_order].data.codes.at(row);
    const Value& computed = by_number.at(static_cast<int128>(number));
    if (same_value(stored.at(row), computed)) continue;
    return fmt::format("row {}: stored {}, SQLite {}\n{}", row, to_text(stored.at(row), stored.type),
                       to_text(computed, stored.type), statement);
  }
  return "";
}

std::string answer_difference(const Result<QueryResult>& a, const Result<QueryResult>& b) {
  if (!a && !b) return a.error()[0].code == b.error()[0].code ? "" : messages(a.error()) + messages(b.error());
  if (!a || !b) return "only one fails: " + messages(a ? b.error() : a.error());
  const std::string both = rows_of(*a) + "\n--- and\n" + rows_of(*b);
  if (a->rows.size() != b->rows.size()) return both;
  for (std::size_t r = 0; r < a->rows.size(); ++r) {
    if (a->rows[r].level != b->rows[r].level) return both;
    for (std::size_t c = 0; c < a->rows[r].cells.size(); ++c) {
      if (!same_number(a->rows[r].cells[c], b->rows[r].cells[c])) return both;
    }
  }
  return "";
}

Result<QueryResult> without_computed_reals(Result<QueryResult> answer) {
  if (!answer) return answer;
  for (std::size_t c = 0; c < answer->columns.size(); ++c) {
    if (answer->columns[c].type.kind != TypeKind::real || answer->columns[c].is_key) continue;
    for (ResultRow& row : answer->rows) row.cells[c] = Value();
  }
  return answer;
}

std::string answer_difference(const Dataset& dataset, const std::string& query) {
  const auto engine = ask(dataset, {query});
  std::string differs = answer_difference(engine, ask(dataset, {query, {}, {}, Plan::naive}));
  if (!differs.empty() || !engine) return differs;
  const auto agreement = against_sqlite(dataset, {query});
  if (!agreement) return messages(agreement.error());
  for (const DifferentCell& cell : agreement->samples)
    differs +=
        fmt::format("{} {} {}: engine {}, SQLite {}\n", cell.level, cell.row, cell.column, cell.engine, cell.sqlite);
  return differs;
}

std::optional<std::string> sqlite_difference(SqliteTwin& twin, const std::string& query, bool has_product) {
  const auto agreement = twin.compare({query});
  if (!agreement) {
    const std::string& code = agreement.error()[0].code;
    const std::string said = messages(agreement.error());
    const bool is_beyond_it = said.find("parser stack overflow") != std::string::npos ||
                              (has_product && said.find("integer overflow") != std::string::npos);
    if (code == "JR-707" || code == "JR-708" || is_beyond_it) return std::nullopt;
    return said;
  }
  std::string differs;
  for (const DifferentCell& cell : agreement->samples)
    differs +=
        fmt::format("{} {} {}: engine {}, SQLite {}\n", cell.level, cell.row, cell.column, cell.engine, cell.sqlite);
  return differs.empty() ? "" : differs + agreement->statement;
}

}  // namespace juniper::test
