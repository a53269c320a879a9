#include "juniper/sql.h"

#include <fmt/format.h>

#include <chrono>
#include <cmath>
#include <map>

#include "base/failure.h"
#include "engine/naive/naive.h"
#include "engine/query/ask.h"
#include "engine/query/query.h"
#include "model/access.h"
#include "model/hidden.h"
#include "sql/sqlite.h"
#include "sql/translate.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

using Clock = std::chrono::steady_clock;

struct ByValue {
  bool operator()(const std::vector<Value>& a, const std::vector<Value>& b) const {
    for (std::size_t i = 0; i < a.size(); ++i) {
      if (const int order = compare(a[i], b[i]); order != 0) return order < 0;
    }
    return false;
  }
};

bool same_value(const Value& a, const Value& b) {
  if (a.is_null() || b.is_null() || a.kind() != Value::Kind::real || b.kind() != Value::Kind::real) return a == b;
  const double apart = std::abs(a.real() - b.real());
  return apart <= 1e-9 * std::max({std::abs(a.real()), std::abs(b.real()), 1.0});
}

std::string shown(const Value& value, Type type) {
  return value.is_null() ? "null" : to_text(value, type);
}

// Compares the two answers cell by cell.
void compare_rows(const language::Query& query, const QueryResult& answer, const std::vector<std::vector<Value>>& rows,
                  Agreement& agreement) {
  // Rows meet by their level and keys.
  const std::size_t keys = query.by.size();
  std::map<std::vector<Value>, std::pair<const std::vector<Value>*, const std::vector<Value>*>, ByValue> pairs;
  const auto key_of = [&](std::uint32_t level, auto first) {
    std::vector<Value> key{Value::of(static_cast<int128>(level))};
    key.insert(key.end(), first, first + static_cast<std::ptrdiff_t>(keys));
    return key;
  };
  for (const ResultRow& row : answer.rows) pairs[key_of(row.level, row.cells.begin())].first = &row.cells;
  for (const auto& row : rows) {
    const auto level = static_cast<std::uint32_t>(row[0].exact());
    pairs[key_of(level, row.begin() + 1)].second = &row;
  }
  for (const auto& [key, pair] : pairs) {
    ++agreement.rows;
    const auto level = static_cast<std::size_t>(key[0].exact());
    for (std::size_t c = keys; c < answer.columns.size(); ++c) {
      ++agreement.cells;
      const Value* const engine = pair.first != nullptr ? &(*pair.first)[c] : nullptr;
      const Value* const sqlite = pair.second != nullptr ? &(*pair.second)[c + 1] : nullptr;
      if (engine != nullptr && sqlite != nullptr && same_value(*engine, *sqlite)) continue;
      ++agreement.different;
      if (agreement.samples.size() >= 10) continue;
      DifferentCell cell;
      cell.level = answer.levels[level];
      for (std::size_t k = 0; k < keys; ++k) {
        if (!answer.kept[level][k]) continue;
        cell.row += fmt::format("{}{} = {}", cell.row.empty() ? "" : ", ", answer.columns[k].name,
                                shown(key[k + 1], answer.columns[k].type));
      }
      cell.column = answer.columns[c].name;
      cell.engine = engine != nullptr ? shown(*engine, answer.columns[c].type) : "no row";
      cell.sqlite = sqlite != nullptr ? shown(*sqlite, answer.columns[c].type) : "no row";
      agreement.samples.push_back(std::move(cell));
    }
  }
}

}  // namespace

Result<std::string> sql(const Dataset& dataset, const Question& question, SqlDialect dialect) {
  if (auto may = model::for_everybody(model::checked(dataset.model()), "a statement, which goes over all rows,"); !may)
    return tl::unexpected(may.error());

  return base::guarded([&]() -> Result<std::string> {
    auto prepared = engine::prepare(dataset.model(), question);
    if (!prepared) return tl::unexpected(prepared.error());
    language::CheckedModel model = *prepared->model;
    for (std::size_t i = 0; i < model.links.size(); ++i)
      model.links[i].broken = store::store_of(dataset).links[i].broken;
    const auto words = dialect == SqlDialect::sqlite ? sql_engine::sqlite_dialect() : sql_engine::postgresql_dialect();
    return sql_engine::translate(model, prepared->query, engine::source_of(dataset).setting.today, *words);
  });
}

struct SqliteTwin::State {
  Dataset dataset;
  sql_engine::Sqlite database;
};

SqliteTwin::SqliteTwin(std::unique_ptr<State> state) : state_(std::move(state)) {}
SqliteTwin::~SqliteTwin() = default;
SqliteTwin::SqliteTwin(SqliteTwin&&) noexcept = default;
SqliteTwin& SqliteTwin::operator=(SqliteTwin&&) noexcept = default;

Result<SqliteTwin> SqliteTwin::open(const Dataset& dataset) {
  return base::guarded([&]() -> Result<SqliteTwin> {
    auto database = sql_engine::Sqlite::open();
    if (!database) return tl::unexpected(database.error());
    const engine::Source source = engine::source_of(dataset);
    for (language::TableIndex t = 0; t < source.model.tables.size(); ++t) {
      if (auto added = database->add_table(source, t); !added) return tl::unexpected(added.error());
    }
    return SqliteTwin(std::make_unique<State>(State{dataset, std::move(*database)}));
  });
}

Result<Agreement> SqliteTwin::compare(const Question& question) {
  return base::guarded([&]() -> Result<Agreement> {
    const Dataset& dataset = state_->dataset;
    auto prepared = engine::prepare(dataset.model(), question);
    if (!prepared) return tl::unexpected(prepared.error());
    prepared->query.limit.reset();
    const engine::Watch watch(dataset.options());
    const engine::Source source = engine::source_of(dataset, *prepared->model, &watch);
    const auto answer = engine::run_query(source, prepared->query, dataset.options().threads);
    if (!answer) return tl::unexpected(answer.error());
    Agreement agreement;
    agreement.engine_nanoseconds = answer->nanoseconds;
    agreement.statement =
        sql_engine::translate(*prepared->model, prepared->query, source.setting.today, *sql_engine::sqlite_dialect());
    std::vector<Type> types{{TypeKind::integer, 0}};
    for (const ResultColumn& column : answer->columns) types.push_back(column.type);
    const auto begin = Clock::now();
    const auto rows = state_->database.run(agreement.statement, types, watch);
    if (!rows) return tl::unexpected(rows.error());
    agreement.sqlite_nanoseconds = std::chrono::nanoseconds(Clock::now() - begin).count();
    compare_rows(prepared->query, *answer, *rows, agreement);
    return agreement;
  });
}

Result<Agreement> against_sqlite(const Dataset& dataset, const Question& question) {
  // What is wrong with the question is told before tables are made.
  if (const auto text = sql(dataset, question); !text) return tl::unexpected(text.error());
  auto twin = SqliteTwin::open(dataset);
  if (!twin) return tl::unexpected(twin.error());
  return twin->compare(question);
}

}  // namespace juniper
