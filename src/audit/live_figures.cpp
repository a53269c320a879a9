#include "audit/live_figures.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/calendar.h"
#include "base/failure.h"
#include "engine/asked/live_tables.h"
#include "engine/query/ask.h"
#include "juniper/ask.h"
#include "language/lexer.h"
#include "model/access.h"
#include "model/hidden.h"
#include "model/uses.h"
#include "store/of_dataset.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The numbers of a question without keys: expressions over one table's rows.
class Figures {
 public:
  // Gives the place of its number.
  std::size_t add(const std::string& expression) {
    text_ += fmt::format("{}{} as f{}", count_ == 0 ? "show " : ", ", expression, count_);
    return count_++;
  }
  Result<std::vector<Value>> ask(const Dataset& dataset) const {
    const auto answer = juniper::ask(dataset, {text_});
    if (!answer) return tl::unexpected(answer.error());
    return answer->rows.empty() ? std::vector<Value>(count_) : answer->rows[0].cells;
  }

 private:
  std::string text_;
  std::size_t count_ = 0;
};

std::uint64_t number(const Value& value) {
  return value.is_null() ? 0 : static_cast<std::uint64_t>(value.exact());
}

std::string written_table(const CheckedModel& model, TableIndex t) {
  return written_name(model.tables[t].name);
}

// A column of the row r.
std::string of_row(const CheckedModel& model, ColumnId id) {
  return "r." + written_name(model.column(id).name);
}

// The figures of a live table's columns.
Result<void> add_figures_of(const Dataset& dataset, TableIndex t, const model::Uses& uses,
                            const engine::LiveSizes& sizes, Weighing& weighing) {
  const CheckedModel& model = model::checked(dataset.model());
  const Table& table = model.tables[t];
  const std::string rows = " for r in " + written_table(model, t) + ")";
  Figures figures;
  const std::size_t all = figures.add("count(" + written_table(model, t) + ")");
  struct Places {
    std::size_t values;
    std::size_t distinct;
    std::optional<std::size_t> least;
    std::optional<std::size_t> most;
  };
  std::vector<Places> places;
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    const std::string column = of_row(model, {t, c});
    Places& of = places.emplace_back();
    of.values = figures.add("count(" + column + rows);
    of.distinct = figures.add("count(distinct " + column + rows);
    if (model::is_hidden(model, {t, c})) continue;
    const bool is_truth = table.columns[c].type.kind == TypeKind::boolean;
    of.least = figures.add((is_truth ? "every(" : "min(") + column + rows);
    of.most = figures.add((is_truth ? "any(" : "max(") + column + rows);
  }
  const auto numbers = figures.ask(dataset);
  if (!numbers) return tl::unexpected(numbers.error());
  LiveWeight live;
  live.table = table.name;
  live.place = sizes.place;
  live.rows = number((*numbers)[all]);
  live.bytes = sizes.bytes;
  live.index_bytes = sizes.index_bytes;
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    const Column& column = table.columns[c];
    ColumnWeight weight;
    weight.table = table.name;
    weight.column = column.name;
    weight.type = column.type;
    weight.calculated = column.is_calculated();
    weight.key = column.key;
    weight.hidden = column.hidden;
    weight.rows = live.rows;
    weight.nulls = live.rows - number((*numbers)[places[c].values]);
    weight.distinct = number((*numbers)[places[c].distinct]);
    if (places[c].least) weight.min = (*numbers)[*places[c].least];
    if (places[c].most) weight.max = (*numbers)[*places[c].most];
    weight.encoding = "live";
    if (const auto there = sizes.columns.find(column.header); there != sizes.columns.end() && !column.is_calculated())
      weight.there_bytes = there->second;
    for (const model::User& user : uses.of({t, c})) weight.used_by.push_back({user.kind, user.name});
    live.columns.push_back(std::move(weight));
  }
  weighing.live.push_back(std::move(live));
  return {};
}

}  // namespace

Result<void> add_live(const Dataset& dataset, Weighing& weighing) {
  const CheckedModel& model = model::checked(dataset.model());
  const model::Uses uses(model);
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    if (!model.tables[t].is_live()) continue;
    const auto sizes = base::guarded([&]() -> Result<engine::LiveSizes> {
      const engine::QuestionSource source(dataset, model, nullptr);
      return source.get().live->sizes(t);
    });
    if (!sizes) return tl::unexpected(sizes.error());
    if (auto added = add_figures_of(dataset, t, uses, *sizes, weighing); !added) return added;
  }
  return {};
}

Result<std::uint64_t> rows_of(const Dataset& dataset, TableIndex t) {
  const CheckedModel& model = model::checked(dataset.model());
  if (!model.tables[t].is_live()) return store::loaded_store_of(dataset).tables[t].rows;
  Figures figures;
  figures.add("count(" + written_table(model, t) + ")");
  const auto numbers = figures.ask(dataset);
  if (!numbers) return tl::unexpected(numbers.error());
  return number((*numbers)[0]);
}

namespace {

// The orphan keys with the most rows; days that follow each other are one.
std::vector<OrphanKey> samples_of(const QueryResult& orphans, std::size_t keys, std::size_t most) {
  const bool are_days = keys == 1 && orphans.columns[0].type.kind == TypeKind::date;
  std::vector<OrphanKey> samples;
  std::int64_t day_before = 0;
  for (const ResultRow& row : orphans.rows) {
    const std::uint64_t rows = number(row.cells[keys]);
    if (are_days) {
      const auto day = static_cast<std::int64_t>(row.cells[0].exact());
      if (!samples.empty() && day == day_before + 1) {
        samples.back().last = base::date_text(day);
        ++samples.back().keys;
        samples.back().rows += rows;
        day_before = day;
        continue;
      }
      day_before = day;
    }
    OrphanKey& key = samples.emplace_back();
    for (std::size_t k = 0; k < keys; ++k)
      key.key += (k == 0 ? "" : ", ") + to_text(row.cells[k], orphans.columns[k].type);
    key.rows = rows;
  }
  std::stable_sort(samples.begin(), samples.end(),
                   [](const OrphanKey& a, const OrphanKey& b) { return a.rows > b.rows; });
  if (samples.size() > most) samples.resize(most);
  return samples;
}

}  // namespace

Result<LinkUse> live_use_of(const Dataset& dataset, LinkIndex index, std::size_t samples) {
  const CheckedModel& model = model::checked(dataset.model());
  const Link& link = model.links[index];
  LinkUse use;
  use.link = model.link_name(link);
  use.many_table = model.tables[link.from.table].name;
  use.one_table = model.tables[link.to.table].name;
  use.broken = link.broken;
  if (!use.broken.empty()) return use;
  const std::string many = written_table(model, link.from.table);
  const std::string one = link.role.empty() ? written_table(model, link.to.table) : written_name(link.role);
  const std::string far = one + "." + written_name(model.tables[link.to.table].columns[link.to.columns[0]].name);
  std::string has_key;
  std::string keys;
  for (const std::uint32_t c : link.from.columns) {
    const std::string name = written_name(model.column({link.from.table, c}).name);
    has_key += fmt::format("{}r.{} is not null", has_key.empty() ? "" : " and ", name);
    keys += fmt::format("{}{}.{}", keys.empty() ? "by " : ", ", many, name);
  }
  Figures figures;
  const std::size_t all = figures.add("count(" + many + ")");
  const std::size_t with_key = figures.add(fmt::format("count(r in {} where {})", many, has_key));
  const auto numbers = figures.ask(dataset);
  if (!numbers) return tl::unexpected(numbers.error());
  use.many_rows = number((*numbers)[all]);
  use.null_rows = use.many_rows - number((*numbers)[with_key]);
  // Of each key, its rows and whether it has a match: as many rows move as there are keys.
  std::string no_null;
  for (const std::uint32_t c : link.from.columns) {
    no_null += fmt::format("{}{}.{} is not null", no_null.empty() ? "" : " and ", many,
                           written_name(model.column({link.from.table, c}).name));
  }
  const auto matched =
      ask(dataset, {fmt::format("{} show count({}) as n where {} and {} is not null", keys, many, no_null, far)});
  const auto orphans =
      ask(dataset, {fmt::format("{} show count({}) as n where {} and {} is null", keys, many, no_null, far)});
  for (const auto* const answer : {&matched, &orphans}) {
    if (*answer) continue;
    const Diagnostic& problem = answer->error().front();
    // A key that repeats, or a table to which several paths lead.
    if (problem.code != "JR-706" && !problem.code.starts_with("JR-2")) return tl::unexpected(answer->error());
    use.broken = problem.message;
    return use;
  }
  use.used_rows = matched->rows.size();
  use.orphan_keys = orphans->rows.size();
  use.many_keys = use.used_rows + use.orphan_keys;
  for (const ResultRow& row : orphans->rows) use.orphan_rows += number(row.cells.back());
  use.samples = samples_of(*orphans, link.from.columns.size(), samples);
  const auto rows = rows_of(dataset, link.to.table);
  if (!rows) return tl::unexpected(rows.error());
  use.one_rows = *rows;
  return use;
}

}  // namespace juniper::auditing
