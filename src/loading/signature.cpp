#include "loading/signature.h"

#include <fmt/format.h>

#include "base/calendar.h"
#include "language/traverse.h"
#include "model/uses.h"

namespace juniper::loading {

using namespace language;

namespace {

// The measures that stored columns and tables name, directly or through others.
std::set<MeasureIndex> stored_measures(const CheckedModel& model) {
  std::set<MeasureIndex> found;
  for (const Table& table : model.tables) {
    for (const Column& column : table.columns) found.merge(measures_in(model, column.expression));
    found.merge(measures_in(model, table.rows));
  }
  return found;
}

// Visits every node that stored values are computed from.
template <class Visit>
void walk_stored(const CheckedModel& model, const Visit& visit) {
  for (const MeasureIndex m : stored_measures(model)) walk(model.measures[m].expression, visit);
  for (const Table& table : model.tables) {
    for (const Column& column : table.columns) walk(column.expression, visit);
    walk(table.rows, visit);
  }
}

bool reads_today(const CheckedModel& model) {
  bool reads = false;
  walk_stored(model, [&](const Node& n) { reads = reads || (n.op == Op::call && n.function == Function::today); });
  return reads;
}

std::string written_value(const Parameter& parameter) {
  return parameter.value.is_null() ? "null" : to_text(parameter.value, parameter.type);
}

std::string fingerprint(const std::string& text) {
  return fmt::format("{:016x}{:016x}", store::hash_bytes(std::as_bytes(std::span(text))), text.size());
}

}  // namespace

std::string signature(const CheckedModel& model, std::int64_t today) {
  std::string text;
  for (const Table& table : model.tables) {
    text += fmt::format("table {:?} {}{} {:?} {}", table.name, table.is_live() ? "live " : "",
                        base::name_of(table.source.kind), table.source.pattern, base::details_text(table.source));
    for (const TableKey& key : table.keys) text += fmt::format(" key {}", fmt::join(key.columns, " "));
    for (const TableIndex from : table.reached_from) text += fmt::format(" from {:?}", model.tables[from].name);
    for (const std::uint32_t column : table.sorted_by) text += fmt::format(" by {:?}", table.columns[column].name);
    text += '\n';
    for (const Column& column : table.columns) {
      text += fmt::format("  {:?} {} {} {}{:?} {}\n", column.name, to_string(column.type), column.key,
                          base::name_of(column.part), column.header,
                          column.expression ? canonical(model, column.expression, OuterRows::by_order) : "");
    }
    if (table.rows) {
      text += fmt::format("  rows {}\n", canonical(model, table.rows, OuterRows::by_order));
    }
  }
  // What a calculated column or table rests on beside columns: measures, and the calendar that `during` moves in.
  for (const MeasureIndex m : stored_measures(model))
    text += fmt::format("measure {:?} {}\n", model.measures[m].name,
                        canonical(model, model.measures[m].expression, OuterRows::by_order));
  if (model.calendar) {
    text += fmt::format("calendar {}", model.column_name(model.calendar->day));
    for (const std::uint32_t period : model.calendar->periods) text += fmt::format(" {}", period);
    text += '\n';
  }
  for (const Link& link : model.links) text += fmt::format("link {}\n", model.link_name(link));
  if (const Reader* const reader = model.acting_reader()) {
    bool reads = false;
    const auto look = [&](const Node& n) { reads = reads || (n.op == Op::call && n.function == Function::today); };
    for (const ReaderRows& rows : reader->rows) {
      text += fmt::format("reader {:?} {}\n", model.tables[rows.table].name,
                          canonical(model, rows.condition, OuterRows::by_order));
      walk(rows.condition, look);
      for (const MeasureIndex m : measures_in(model, rows.condition)) {
        text += fmt::format("measure {:?} {}\n", model.measures[m].name,
                            canonical(model, model.measures[m].expression, OuterRows::by_order));
        walk(model.measures[m].expression, look);
      }
    }
    text += fmt::format("reader {}\n", reads && !reads_today(model) ? fmt::format("today {}", today) : "");
  }
  if (reads_today(model)) text += fmt::format("today {}\n", today);
  return fingerprint(text);
}

std::string table_signature(const source::TableRequest& request) {
  std::string text = fmt::format("{} {}\n", base::name_of(request.place.kind), base::details_text(request.place));
  for (const source::ColumnRequest& column : request.columns)
    text +=
        fmt::format("{:?} {}{:?} {}\n", column.name, base::name_of(column.part), column.header, to_string(column.type));
  return fingerprint(text);
}

source::TableRequest table_request(const CheckedModel& model, TableIndex index) {
  const Table& table = model.tables[index];
  source::TableRequest request;
  request.name = table.name;
  request.folder = std::filesystem::path(model.sources[table.span.file].name).parent_path();
  request.place = table.source;
  for (const Column& column : table.columns) {
    if (!column.is_calculated()) request.columns.push_back({column.name, column.header, column.type, column.part});
  }
  return request;
}

std::string source_name(const source::TableRequest& request, const std::filesystem::path& path) {
  if (base::is_server(request.place.kind)) return path.string();
  const std::filesystem::path folder = request.folder.empty() ? "." : request.folder.lexically_normal();
  const std::filesystem::path beside = path.lexically_normal().lexically_relative(folder);
  return (beside.empty() ? path.lexically_normal() : beside).generic_string();
}

bool is_unchanged(const source::SourceFile& then, const source::TableRequest& request,
                  const std::filesystem::path& path) {
  // What a server holds is asked for by a load, and stays as it is until the next one.
  if (base::is_server(request.place.kind)) return then.path == source_name(request, path);
  const auto now = source::look_at(request, path);
  if (!now || then.bytes != now->bytes) return false;
  const bool same_file =
      then.path == source_name(request, path) && then.modified_nanoseconds == now->modified_nanoseconds;
  return same_file || source::hash_file(request, path) == then.hash;
}

void note_settings(const CheckedModel& model, std::int64_t today, store::Store& store) {
  std::set<std::uint32_t> read;
  walk_stored(model, [&](const Node& n) {
    if (n.parameter) read.insert(*n.parameter);
  });
  store.parameters.clear();
  for (const std::uint32_t p : read)
    store.parameters.push_back({model.parameters[p].name, written_value(model.parameters[p])});
  store.today = reads_today(model) ? std::optional(today) : std::nullopt;
}

std::string why_made_otherwise(const store::Store& store, const CheckedModel& model, std::int64_t today) {
  if (store.signature == signature(model, today)) return "";
  for (const store::StoredParameter& made : store.parameters) {
    for (const Parameter& now : model.parameters) {
      if (now.name == made.name && written_value(now) != made.value)
        return fmt::format("it was made with {0} = {1}, and here {0} is {2}", made.name, made.value,
                           written_value(now));
    }
  }
  if (store.today && *store.today != today) {
    return fmt::format("its columns were computed with {} as today, and here today is {}",
                       base::date_text(*store.today), base::date_text(today));
  }
  return "its columns were computed from another text, or by another version of this program";
}

bool is_fresh(const store::Store& store, const CheckedModel& model, const std::string& wanted) {
  if (store.signature != wanted) return false;
  std::size_t next = 0;
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (model.tables[t].rows || model.tables[t].is_live()) continue;
    const source::TableRequest request = table_request(model, t);
    const auto files = source::find_files(request);
    if (!files) return false;
    for (const auto& path : *files) {
      if (next == store.sources.size()) return false;
      const source::SourceFile& then = store.sources[next++];
      if (then.table != model.tables[t].name || !is_unchanged(then, request, path)) return false;
    }
  }
  return next == store.sources.size();
}

}  // namespace juniper::loading
