#include "live/places.h"

#include <fmt/format.h>

#include <chrono>
#include <filesystem>

#include "base/diagnostics.h"
#include "base/failure.h"

namespace juniper::live {

using namespace language;

namespace {

// What a file's name in the model's text is relative to.
std::filesystem::path folder_of(const CheckedModel& model, const Table& table) {
  return std::filesystem::path(model.sources[table.span.file].name).parent_path();
}

}  // namespace

std::string Places::name_of(TableIndex table) const {
  const base::SourcePlace& place = source_.model.tables[table].source;
  return fmt::format("{} {}", base::name_of(place.kind), place.pattern);
}

bool Places::are_together(TableIndex a, TableIndex b) const {
  return source_.is_live(a) && source_.is_live(b) && name_of(a) == name_of(b);
}

Place& Places::of(TableIndex table) {
  std::unique_ptr<Place>& place = open_[name_of(table)];
  const Table& of_model = source_.model.tables[table];
  if (place == nullptr) place = open_place(of_model.source, folder_of(source_.model, of_model));
  return *place;
}

const std::string& Places::relation(TableIndex table) {
  std::string& relation = relations_[table];
  if (relation.empty()) relation = of(table).relation(source_.model.tables[table].source.selection);
  return relation;
}

const std::string& Places::native(ColumnId id) {
  auto [at, fresh] = columns_.try_emplace(id.table);
  if (fresh) {
    try {
      at->second = of(id.table).columns(relation(id.table));
    } catch (...) {
      columns_.erase(at);
      throw;
    }
  }
  const Column& column = source_.model.column(id);
  const auto native = at->second.find(column.header);
  if (native != at->second.end()) return native->second;
  std::vector<std::string> names;
  for (const auto& [name, type] : at->second) names.push_back(name);
  throw base::Failure({source_.model.sources.diagnostic(
      Severity::error, "JR-505", column.span,
      fmt::format("{} has no column '{}' at {}", source_.model.tables[id.table].name, column.header, name_of(id.table)),
      base::did_you_mean(column.header, names))});
}

engine::LiveSizes Places::sizes(TableIndex table) {
  engine::LiveSizes sizes = of(table).sizes(source_.model.tables[table].source.selection);
  sizes.place = name_of(table);
  return sizes;
}

std::shared_ptr<const Answer> Places::ask(TableIndex table, const std::string& statement,
                                          const std::vector<Type>& types) {
  std::shared_ptr<const Answer>& answer = answers_[{name_of(table), statement}];
  if (answer) return answer;
  source_.check();
  const auto begin = std::chrono::steady_clock::now();
  answer = std::make_shared<const Answer>(of(table).ask(statement, types, source_.watch));
  const auto time = std::chrono::steady_clock::now() - begin;
  asked_.push_back(
      {name_of(table), statement, answer->rows(), answer->bytes(), std::chrono::nanoseconds(time).count()});
  return answer;
}

}  // namespace juniper::live
