#include "loading/warnings.h"

#include <fmt/format.h>

#include <optional>

namespace juniper::loading {

using namespace language;

Diagnostics data_warnings(const CheckedModel& model, const store::Store& store) {
  Diagnostics warnings;
  const auto warn = [&](const char* code, Span place, std::string message, const char* suggestion) {
    warnings.push_back(model.sources.diagnostic(Severity::warning, code, place, std::move(message), suggestion));
  };
  for (LinkIndex i = 0; i < model.links.size(); ++i) {
    const Link& link = model.links[i];
    const std::string& broken = store.links[i].broken;
    if (!broken.empty() && link.broken.empty()) {
      warn("JR-515", link.span, fmt::format("the link {} is broken: {}", store.links[i].name, broken),
           "mend the data, or link by what is different in every row; what does not cross the link is answered");
    }
    if (link.to.columns.size() != 1) continue;
    const ColumnId key{link.to.table, link.to.columns[0]};
    const store::Column& column = store.tables[key.table].columns[key.column].data;
    const bool told = std::any_of(model.links.begin(), model.links.begin() + i,
                                  [&](const Link& other) { return other.to.table == key.table; });
    if (column.nulls != 0 && model.column(key).key && !told && !model.tables[key.table].rows) {
      warn("JR-508", model.column(key).name_span,
           fmt::format("{} is a key and null in {} of {} rows: no link leads to these", model.column_name(key),
                       column.nulls, column.rows),
           "mend the data");
    }
  }
  // JSON has no list of its fields: one that no record has is most likely misspelled.
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const Table& table = model.tables[t];
    if (table.rows || table.source.kind != base::SourceKind::json) continue;
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      const Column& column = table.columns[c];
      const store::Column& data = store.tables[t].columns[c].data;
      if (column.is_calculated() || data.rows == 0 || data.nulls != data.rows) continue;
      warn("JR-522", column.name_span,
           fmt::format("no record has a value of '{}': {} is null in all {} rows", column.header,
                       model.column_name({t, c}), data.rows),
           "compare its name with the file; the path of a field in another one is \"outer.inner\"");
    }
  }
  std::string names;
  std::optional<Span> first;
  const auto add = [&](const std::string& name, Span place) {
    names += (names.empty() ? "" : ", ") + name;
    if (!first) first = place;
  };
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const store::StoredTable& table = store.tables[t];
    if (!table.broken.empty()) {
      add(table.name, model.tables[t].name_span);
      continue;
    }
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
      if (!table.columns[c].broken.empty()) add(model.column_name({t, c}), model.column({t, c}).name_span);
    }
  }
  if (first) warn("JR-515", *first, "nothing is computed of what needs a broken link: " + names, "mend the link");
  return warnings;
}

}  // namespace juniper::loading
