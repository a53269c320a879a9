#include "loading/signature.h"

#include <fmt/format.h>

#include "model/uses.h"

namespace juniper::loading {

using namespace language;

std::string signature(const CheckedModel& model, std::int64_t today) {
  std::string text;
  bool reads_today = false;
  for (const Table& table : model.tables) {
    text += fmt::format("table {:?} {:?} {:?}\n", table.name, table.source_pattern, std::string(1, table.delimiter));
    for (const Column& column : table.columns) {
      text += fmt::format("  {:?} {} {} {:?} {}\n", column.name, to_string(column.type), column.key, column.header,
                          column.expression ? canonical(model, column.expression) : "");
      walk(column.expression,
           [&](const Node& n) { reads_today = reads_today || (n.op == Op::call && n.function == Function::today); });
    }
  }
  for (const Link& link : model.links) text += fmt::format("link {}\n", model::link_name(model, link));
  if (reads_today) text += fmt::format("today {}\n", today);
  return fmt::format("{:016x}{:016x}", store::hash_bytes(std::as_bytes(std::span(text))), text.size());
}

source::TableRequest table_request(const CheckedModel& model, TableIndex index) {
  const Table& table = model.tables[index];
  source::TableRequest request;
  request.name = table.name;
  request.folder = std::filesystem::path(model.sources[table.span.file].name).parent_path();
  request.pattern = table.source_pattern;
  request.delimiter = table.delimiter;
  for (const Column& column : table.columns) {
    if (!column.is_calculated()) request.columns.push_back({column.name, column.header, column.type});
  }
  return request;
}

bool is_fresh(const store::Store& store, const CheckedModel& model, const std::string& wanted) {
  if (store.signature != wanted) return false;
  std::size_t next = 0;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    const auto files = source::find_files(table_request(model, t));
    if (!files) return false;
    for (const auto& path : *files) {
      if (next == store.sources.size()) return false;
      const source::SourceFile& then = store.sources[next++];
      const auto now = source::look_at(model.tables[t].name, path);
      if (!now || then.table != now->table || then.bytes != now->bytes) return false;
      const bool same_place = then.path == now->path && then.modified_nanoseconds == now->modified_nanoseconds;
      if (!same_place && source::hash_file(path) != then.hash) return false;
    }
  }
  return next == store.sources.size();
}

}  // namespace juniper::loading
