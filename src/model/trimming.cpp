#include "model/trimming.h"

#include <fmt/format.h>

#include <algorithm>

#include "language/traverse.h"

namespace juniper::model {

using namespace language;

Diagnostics trimming_blockers(const CheckedModel& model, TableIndex t) {
  const Table& table = model.tables[t];
  Diagnostics found;
  const auto block = [&](const CheckedModel& own, Span span, const std::string& why, const char* way) {
    found.push_back(own.sources.diagnostic(Severity::error, "JR-803", span,
                                           fmt::format("all rows of {} stay: {}", table.name, why), way));
  };
  if (model.calendar && model.calendar->day.table == t)
    block(model, model.calendar->span, "periods are reckoned in the days of the calendar", "");
  each_definition(model, [&](const Definition& definition) {
    bool told = false;
    each_mention(definition, [&](const Mention& mention) {
      if (definition.role == Role::declared && definition.column && definition.table == t) {
        block(model, mention.span,
              fmt::format("\"{}\" uses {}", definition.name, model.column(*definition.column).name),
              "take `used by` out when that is over, or trim the table by hand");
      }
      if (mention.table != t || mention.manner == Manner::dropped || told) return;
      // Whose rows a reader sees does not rest on those that nothing leads to.
      if (definition.role == Role::reader && mention.manner == Manner::listed) return;
      told = definition.role == Role::calculated_table;
      if (definition.role == Role::calculated_table) {
        block(model, definition.name_span, fmt::format("{} is made of them", definition.name), "");
      } else if (definition.role == Role::reached_from) {
        block(model, mention.span, fmt::format("{} holds what they lead to", definition.name), "");
      } else {
        block(*definition.model, mention.span, "they are looked at here, whether something leads to them or not",
              "aggregate the rows that lead to it instead, as in count(distinct …)");
      }
    });
  });
  for (const Query& query : model.queries) {
    const bool reads =
        std::any_of(query.sources.begin(), query.sources.end(), [&](const auto& source) { return source.table == t; });
    if (reads) block(model, query.span, fmt::format("query '{}' lists them", query.name), "");
  }
  return found;
}

}  // namespace juniper::model
