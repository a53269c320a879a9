#include "juniper/weigh.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <set>

#include "audit/live_figures.h"
#include "base/diagnostics.h"
#include "engine/query/ask.h"
#include "language/traverse.h"
#include "model/access.h"
#include "model/hidden.h"
#include "model/uses.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper {

namespace {

ColumnWeight weigh_column(const language::CheckedModel& model, const model::Uses& uses, language::ColumnId id,
                          const store::Column& data) {
  const language::Column& column = model.column(id);
  ColumnWeight weight;
  weight.table = model.tables[id.table].name;
  weight.column = column.name;
  weight.type = column.type;
  weight.calculated = column.is_calculated();
  weight.key = column.key;
  weight.hidden = column.hidden;
  weight.rows = data.rows;
  weight.distinct = data.distinct;
  weight.nulls = data.nulls;
  if (!model::is_hidden(model, id)) {
    weight.min = data.least;
    weight.max = data.most;
  }
  weight.encoding = data.encoding;
  weight.dictionary_bytes = data.dictionary_bytes().size();
  weight.code_bytes = data.codes.bytes().size();
  for (const model::User& user : uses.of(id)) weight.used_by.push_back({user.kind, user.name});
  return weight;
}

template <class Weight, class Bytes>
void heaviest_first(std::vector<Weight>& weights, const Bytes& bytes) {
  std::stable_sort(weights.begin(), weights.end(),
                   [&](const Weight& a, const Weight& b) { return bytes(a) > bytes(b); });
}

}  // namespace

Result<Weighing> weigh(const Dataset& dataset) {
  const language::CheckedModel& model = model::checked(dataset.model());
  const store::Store& store = store::loaded_store_of(dataset);
  const model::Uses uses(model);
  Weighing weighing;
  weighing.model = model.name.empty() ? std::filesystem::path(dataset.model().path()).filename().string() : model.name;
  for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
    if (model.tables[t].is_live()) continue;
    const store::StoredTable& stored = store.tables[t];
    TableWeight table{stored.name, stored.rows, stored.source_bytes, 0, 0, 0};
    for (std::uint32_t c = 0; c < stored.columns.size(); ++c) {
      weighing.columns.push_back(weigh_column(model, uses, {t, c}, stored.columns[c].data));
      table.dictionary_bytes += weighing.columns.back().dictionary_bytes;
      table.code_bytes += weighing.columns.back().code_bytes;
    }
    for (std::size_t i = 0; i < model.links.size(); ++i) {
      if (model.links[i].from.table != t) continue;
      const store::Codes& rows = store.links[i].rows;
      weighing.links.push_back(
          {store.links[i].name, stored.name, stored.rows, store.links[i].encoding, rows.bytes().size()});
      table.link_bytes += rows.bytes().size();
    }
    weighing.source_bytes += table.source_bytes;
    weighing.tables.push_back(std::move(table));
  }
  heaviest_first(weighing.tables, [](const TableWeight& t) { return t.total_bytes(); });
  heaviest_first(weighing.columns, [](const ColumnWeight& c) { return c.total_bytes(); });
  heaviest_first(weighing.links, [](const LinkWeight& l) { return l.bytes; });
  weighing.overhead_bytes = store.overhead.total();
  weighing.file_bytes = store.file_bytes;
  if (auto added = auditing::add_live(dataset, weighing); !added) return tl::unexpected(added.error());
  return weighing;
}

namespace {

// The columns that a query reads: those that it names, and what its measures and conditions read. The keys of links are
// the links' own.
std::set<language::ColumnId> columns_read(const language::CheckedModel& model, const language::Query& query) {
  std::set<language::ColumnId> columns;
  each_definition(model, query, [&](const language::Definition& definition) {
    columns.insert(definition.columns.begin(), definition.columns.end());
    if (!definition.expression) return;
    columns.merge(language::needs_of(*definition.model, definition.expression, std::nullopt).columns);
  });
  return columns;
}

}  // namespace

Result<Weighing> weigh(const Dataset& dataset, const QueryLog& log) {
  auto weighed = weigh(dataset);
  if (!weighed) return weighed;
  Weighing& weighing = *weighed;
  weighing.has_log = true;
  std::map<std::pair<std::string, std::string>, std::uint64_t> queries;  // of each column
  for (const LoggedQuery& logged : log.queries) {
    weighing.logged_queries += logged.times;
    const auto prepared = engine::prepare(dataset.model(), {logged.query});
    if (!prepared) {
      weighing.not_understood += logged.times;
      const Diagnostic& problem = prepared.error().front();
      weighing.log_problems.push_back(base::error_at(problem.code,
                                                     Place{log.path, static_cast<std::uint32_t>(logged.line), 0},
                                                     problem.message, problem.suggestion)[0]);
      continue;
    }
    for (const language::ColumnId id : columns_read(*prepared->model, prepared->query))
      queries[{prepared->model->tables[id.table].name, prepared->model->column(id).name}] += logged.times;
  }
  const auto count = [&](std::vector<ColumnWeight>& columns) {
    for (ColumnWeight& column : columns) {
      const auto found = queries.find({column.table, column.column});
      column.logged_queries = found == queries.end() ? 0 : found->second;
    }
  };
  count(weighing.columns);
  for (LiveWeight& live : weighing.live) count(live.columns);
  return weighed;
}

}  // namespace juniper
