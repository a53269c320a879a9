#include "engine/asked/result_shape.h"

#include <fmt/format.h>

#include <algorithm>

#include "language/slices.h"

namespace juniper::engine {

using language::Query;

namespace {

// Groups that rows belong to over a bridge overlap: a total that leaves them out is not their sum.
void note_overlaps(const language::CheckedModel& model, const Query& query,
                   const std::vector<std::vector<std::uint32_t>>& kept, QueryResult& result) {
  for (std::uint32_t k = 0; k < query.by.size(); ++k) {
    const bool is_left_out = std::any_of(kept.begin(), kept.end(), [&](const auto& level) {
      return std::find(level.begin(), level.end(), k) == level.end();
    });
    if (!is_left_out) continue;
    const language::QueryBy& key = query.by[k];
    for (const language::SeenTable& seen : query.sources) {
      const auto bridge = bridge_of(model, {language::PredicateKind::key, key.expression, 0, key.span, 0}, seen);
      if (!bridge) continue;
      result.notes.push_back(
          fmt::format("a row counts once for each {} that {} puts it in: these do not add up to the total", key.name,
                      model.tables[*bridge].name));
      break;
    }
  }
}

}  // namespace

QueryResult empty_result(const language::CheckedModel& model, const Query& query,
                         const std::vector<std::vector<std::uint32_t>>& kept) {
  QueryResult result;
  result.title = query.title;
  for (const auto& key : query.by) {
    const std::string format = key.is_column() ? model.column(key.column().column).format : "";
    result.columns.push_back({key.name, key.type(), format, true});
  }
  for (const auto& item : query.show) result.columns.push_back({item.name, item.expression->type, item.format, false});
  for (const std::vector<std::uint32_t>& level : kept) {
    std::vector<bool> is_kept(query.by.size(), false);
    std::string names;
    for (const std::uint32_t k : level) {
      is_kept[k] = true;
      names += (names.empty() ? "" : ", ") + query.by[k].name;
    }
    if (result.levels.empty()) {
      names = "detail";
    } else if (level.empty()) {
      names = "grand";
    } else if (level.size() > 1) {
      names = "(" + names + ")";
    }
    result.levels.push_back(names);
    result.kept.push_back(std::move(is_kept));
  }
  note_overlaps(model, query, kept, result);
  return result;
}

namespace {

constexpr auto narrower = "use fewer digits after the point, or a real";

// " where stations.region = Coast, days.year = 2025"
std::string group_text(const Query& query, const std::vector<std::uint32_t>& kept, const std::vector<Value>& values) {
  std::string group;
  for (std::size_t i = 0; i < kept.size(); ++i) {
    const language::QueryBy& key = query.by[kept[i]];
    group += fmt::format("{}{} = {}", group.empty() ? " where " : ", ", key.name,
                         values[i].is_null() ? "null" : to_text(values[i], key.type()));
  }
  return group;
}

}  // namespace

Diagnostics key_error(const language::CheckedModel& model, language::Span span) {
  return {model.sources.diagnostic(Severity::error, "JR-701", span,
                                   "rows are ordered or grouped by this, and in some row it does not fit its type",
                                   narrower)};
}

Diagnostics having_error(const language::CheckedModel& model, const Query& query,
                         const std::vector<std::uint32_t>& kept, const std::vector<Value>& values) {
  return {model.sources.diagnostic(
      Severity::error, "JR-701", query.having->span,
      fmt::format("what `having` asks{} does not fit its type", group_text(query, kept, values)), narrower)};
}

Diagnostics overflow_error(const language::CheckedModel& model, const Query& query, const language::QueryShow& item,
                           const std::vector<std::uint32_t>& kept, const std::vector<Value>& values) {
  return {model.sources.diagnostic(Severity::error, "JR-701", item.span,
                                   fmt::format("'{}'{} does not fit {}", item.name, group_text(query, kept, values),
                                               to_string(item.expression->type)),
                                   narrower)};
}

}  // namespace juniper::engine
