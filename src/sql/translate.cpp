#include "sql/translate.h"

#include <fmt/format.h>

#include <algorithm>

#include "sql/translator.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

// One level of a query: its combinations of keys, and what is shown for each.
std::string level(Translator& translator, const CheckedModel& model, const Query& query, std::size_t number,
                  const std::vector<std::uint32_t>& kept) {
  std::vector<std::string> sources;
  for (const SeenTable& seen : query.sources) {
    RowsSql rows;
    rows.row.slice = translator.filters(query);
    rows.row.slice.roles = seen.roles;
    rows.row.slice.bridges = seen.bridges;
    rows.from = translator.table(seen.table);
    std::vector<std::string> keys(kept.size());
    std::vector<Translator::OverBridge> over;
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < kept.size(); ++i) {
      const QueryBy& key = query.by[kept[i]];
      if (const auto bridge = bridge_of(model, {PredicateKind::key, key.expression, 0, key.span, 0}, seen)) {
        over.emplace_back(*bridge, key.expression);
        places.push_back(i);
      } else {
        keys[i] = translator.key(key.expression, rows, seen.table);
      }
    }
    const std::vector<std::string> read = translator.allow(rows, seen.table, over);
    for (std::size_t i = 0; i < read.size(); ++i) keys[places[i]] = read[i];
    for (std::size_t i = 0; i < keys.size(); ++i) keys[i] += fmt::format(" AS k{}", kept[i]);
    sources.push_back(fmt::format("SELECT DISTINCT {} FROM {}{}", joined(keys, ", "), from_text(*rows.from),
                                  where_text(translator.conditions(rows))));
  }
  const std::string combinations = kept.empty() ? "(SELECT 1)" : "(" + joined(sources, " UNION ") + ")";
  const std::string group = translator.next_alias();
  Scope scope;
  scope.slice = translator.filters(query);
  for (const std::uint32_t k : kept) {
    HeldPredicate held;
    held.predicate = {PredicateKind::key, query.by[k].expression, 0, query.by[k].span, 0};
    held.value = fmt::format("{}.k{}", group, k);
    scope.names[query.by[k].variable] = held.value;
    scope.slice.predicates.push_back(std::move(held));
  }
  std::vector<std::string> columns{fmt::format("{} AS \"level\"", number)};
  for (std::uint32_t k = 0; k < query.by.size(); ++k) {
    const bool keeps = std::find(kept.begin(), kept.end(), k) != kept.end();
    columns.push_back(
        fmt::format("{} AS {}", keeps ? fmt::format("{}.k{}", group, k) : "NULL", quoted_name(query.by[k].name)));
  }
  for (const QueryShow& item : query.show)
    columns.push_back(fmt::format("{} AS {}", translator.value(item.expression, scope), quoted_name(item.name)));
  std::string having;
  if (number == 0 && query.having) having = fmt::format(" WHERE ({})", translator.value(query.having, scope));
  return fmt::format("SELECT {}\nFROM {} {}{}", joined(columns, ",\n  "), combinations, group, having);
}

}  // namespace

std::string translate(const CheckedModel& model, const Query& query, std::int64_t today, const Dialect& dialect) {
  Translator translator(model, dialect, today);
  std::vector<std::uint32_t> all(query.by.size());
  for (std::uint32_t k = 0; k < all.size(); ++k) all[k] = k;
  std::vector<std::string> levels{level(translator, model, query, 0, all)};
  for (const auto& kept : query.totals) levels.push_back(level(translator, model, query, levels.size(), kept));
  std::vector<std::string> columns{"\"level\""};
  for (const QueryBy& key : query.by) {
    columns.push_back(dialect.shown(quoted_name(key.name), key.type()));
  }
  for (const QueryShow& item : query.show)
    columns.push_back(dialect.shown(quoted_name(item.name), item.expression->type));
  std::string statement = "SELECT " + joined(columns, ", ") + " FROM (\n" + joined(levels, "\nUNION ALL\n") + "\n) r";
  // Rows without any number are left out, but for a total over everything.
  if (!query.by.empty() && !query.keep_empty) {
    std::vector<std::string> present;
    for (const QueryShow& item : query.show) present.push_back(quoted_name(item.name) + " IS NOT NULL");
    for (std::size_t t = 0; t < query.totals.size(); ++t) {
      if (query.totals[t].empty()) present.push_back(fmt::format("\"level\" = {}", t + 1));
    }
    statement += "\nWHERE " + joined(present, " OR ");
  }
  std::vector<std::string> order{"\"level\""};
  for (const QueryBy& key : query.by) order.push_back("r." + quoted_name(key.name) + " NULLS LAST");
  statement += "\nORDER BY " + joined(order, ", ") + "\n";
  return dialect.before(statement, model, translator.used(), translator.parts().texts()) + statement;
}

std::string translate_column(const CheckedModel& model, TableIndex table, const NodePtr& expression, std::int64_t today,
                             const Dialect& dialect) {
  Translator translator(model, dialect, today);
  Scope scope;
  RowSql row;
  row.table = table;
  row.from = translator.table(table);
  scope.rows.emplace(model.tables[table].row, row);
  const std::string value = translator.value(expression, scope);
  const std::string statement =
      fmt::format("SELECT {}.\"row$\", {} FROM {} ORDER BY 1\n", row.from->alias, value, from_text(*row.from));
  return dialect.before(statement, model, translator.used(), translator.parts().texts()) + statement;
}

}  // namespace juniper::sql_engine
