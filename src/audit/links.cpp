#include "juniper/links.h"

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>

#include "audit/live_figures.h"
#include "audit/trims.h"
#include "base/failure.h"
#include "juniper/ask.h"
#include "language/checked.h"
#include "language/lexer.h"
#include "language/traverse.h"
#include "model/access.h"
#include "model/hidden.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper {

namespace {

// Keys of one or several columns: the codes of a row, one behind the other.
using Key = std::vector<std::uint64_t>;

std::string text_of(const std::vector<const store::Column*>& columns, const Key& key) {
  std::string text;
  for (std::size_t c = 0; c < key.size(); ++c)
    text += (c == 0 ? "" : ", ") + to_text(columns[c]->value_of(key[c]), columns[c]->type);
  return text;
}

// The orphan keys with the most rows, of all in their order; days that follow each other are one.
std::vector<OrphanKey> most_frequent(const std::vector<const store::Column*>& from,
                                     const std::vector<std::pair<Key, std::uint64_t>>& sorted, std::size_t most) {
  const bool are_days = from.size() == 1 && from[0]->type.kind == TypeKind::date;
  struct Span {
    std::size_t begin = 0;
    std::size_t end = 0;
    std::uint64_t rows = 0;
  };
  std::vector<Span> spans;
  for (std::size_t i = 0; i < sorted.size(); ++i) {
    const bool follows =
        are_days && i != 0 && from[0]->exact_of(sorted[i].first[0]) == from[0]->exact_of(sorted[i - 1].first[0]) + 1;
    if (!follows) spans.push_back({i, i, 0});
    spans.back().end = i + 1;
    spans.back().rows += sorted[i].second;
  }
  std::stable_sort(spans.begin(), spans.end(), [](const Span& a, const Span& b) { return a.rows > b.rows; });
  std::vector<OrphanKey> keys;
  for (std::size_t s = 0; s < std::min(most, spans.size()); ++s) {
    const Span& span = spans[s];
    const bool is_single = span.end == span.begin + 1;
    keys.push_back({text_of(from, sorted[span.begin].first), is_single ? "" : text_of(from, sorted[span.end - 1].first),
                    span.end - span.begin, span.rows});
  }
  return keys;
}

// Marks the rows of the one side that are used in `used_by_any`, too.
LinkUse use_of(const store::StoredLink& link, const std::vector<const store::Column*>& from, std::size_t samples,
               std::vector<std::uint8_t>& used_by_any) {
  LinkUse use;
  use.link = link.name;
  use.one_rows = link.no_row;
  use.broken = link.broken;
  if (!use.broken.empty()) return use;
  use.bytes = link.rows.bytes().size();
  std::vector<bool> used(link.no_row, false);
  boost::unordered_flat_map<Key, std::uint64_t> orphans;  // rows
  store::LinkRows link_rows(link, *from[0]);
  std::vector<std::uint64_t> rows(store::block_rows);
  std::vector<std::vector<std::uint64_t>> codes(from.size(), std::vector<std::uint64_t>(store::block_rows));
  Key key(from.size());
  for (std::size_t block = 0; block < from[0]->codes.blocks(); ++block) {
    link_rows.decode_block(block, rows.data());
    for (std::size_t c = 0; c < from.size(); ++c) from[c]->codes.decode_block(block, codes[c].data());
    for (std::size_t i = 0; i < from[0]->codes.rows_in_block(block); ++i) {
      if (rows[i] != link.no_row) {
        used[rows[i]] = true;
        used_by_any[rows[i]] = 1;
        continue;
      }
      bool null = false;
      for (std::size_t c = 0; c < from.size(); ++c) {
        key[c] = codes[c][i];
        null = null || key[c] == from[c]->null_code;
      }
      if (null) {
        ++use.null_rows;
      } else {
        ++orphans[key];
      }
    }
  }
  use.used_rows = static_cast<std::uint64_t>(std::count(used.begin(), used.end(), true));
  // Keys are unique on the one side, so that each row of it that is used stands for one key.
  use.many_keys = use.used_rows + orphans.size();
  std::vector<std::pair<Key, std::uint64_t>> sorted(orphans.begin(), orphans.end());
  std::sort(sorted.begin(), sorted.end());
  use.orphan_keys = sorted.size();
  for (const auto& [orphan, count] : sorted) use.orphan_rows += count;
  use.samples = most_frequent(from, sorted, samples);
  return use;
}

// Rows of the one side in which some column of the key is null.
std::uint64_t rows_without_key(const std::vector<const store::Column*>& key) {
  std::uint64_t rows = 0;
  for (std::uint64_t row = 0; row < key[0]->rows; ++row) {
    const auto is_null = [&](const store::Column* c) { return c->nulls != 0 && c->codes.at(row) == c->null_code; };
    rows += std::any_of(key.begin(), key.end(), is_null) ? 1 : 0;
  }
  return rows;
}

// The condition for rows whose key has no match, in the model's words.
std::string orphan_condition(const language::CheckedModel& model, const language::Link& link) {
  const auto named = [&](const std::string& table, language::TableIndex t, std::uint32_t c) {
    return language::written_name(table) + "." + language::written_name(model.tables[t].columns[c].name);
  };
  std::string condition;
  for (const std::uint32_t c : link.from.columns)
    condition += named(model.tables[link.from.table].name, link.from.table, c) + " is not null and ";
  const std::string& one = link.role.empty() ? model.tables[link.to.table].name : link.role;
  return condition + named(one, link.to.table, link.to.columns[0]) + " is null";
}

// Every measure over the many side's rows alone, where the key has no match.
std::vector<OrphanMeasure> orphan_measures(const Dataset& dataset, const language::Link& link) {
  const language::CheckedModel& model = model::checked(dataset.model());
  std::string shown;
  for (const language::Measure& measure : model.measures) {
    const language::Needs needs = language::needs_of(model, measure.expression, std::nullopt);
    if (measure.hidden || needs.tables != std::set<language::TableIndex>{link.from.table}) continue;
    shown += (shown.empty() ? "show " : ", ") + language::written_name(measure.name);
  }
  if (shown.empty()) return {};
  const auto answer = ask(dataset, {shown, {orphan_condition(model, link)}});
  if (!answer) return {};  // a condition that can't be written, of a link that is reached on several ways
  std::vector<OrphanMeasure> measures;
  for (std::size_t c = 0; c < answer->columns.size(); ++c) {
    const ResultColumn& column = answer->columns[c];
    measures.push_back({column.name, answer->rows[0].cells[c], column.type, column.format});
  }
  return measures;
}

std::vector<CalendarGap> gaps_of(const store::Column& day) {
  std::vector<std::int64_t> days;
  for (const std::uint64_t code : day.codes.decoded()) {
    if (code != day.null_code) days.push_back(day.exact_of(code));
  }
  std::sort(days.begin(), days.end());
  std::vector<CalendarGap> gaps;
  for (std::size_t i = 1; i < days.size(); ++i) {
    if (days[i] > days[i - 1] + 1) gaps.push_back({days[i - 1] + 1, days[i] - 1});
  }
  return gaps;
}

}  // namespace

Result<LinkReport> links(const Dataset& dataset, std::size_t samples) {
  if (auto may =
          model::for_everybody(model::checked(dataset.model()), "a report on links, which shows what keys hold,");
      !may)
    return tl::unexpected(may.error());

  return base::guarded([&]() -> Result<LinkReport> {
    const language::CheckedModel& model = model::checked(dataset.model());
    const store::Store& store = store::loaded_store_of(dataset);
    LinkReport made;
    std::vector<std::vector<std::uint8_t>> used(store.tables.size());  // rows of each table that some link leads to
    for (std::size_t i = 0; i < store.links.size(); ++i) {
      const language::LinkEnd& from = model.links[i].from;
      const language::TableIndex to = model.links[i].to.table;
      const auto columns_of = [&](const language::LinkEnd& end) {
        std::vector<const store::Column*> columns;
        for (const std::uint32_t column : end.columns) columns.push_back(&store.tables[end.table].columns[column].data);
        return columns;
      };
      used[to].resize(store.tables[to].rows, 0);
      if (model.tables[from.table].is_live()) {
        // Which rows it leads to, nobody has looked at one by one.
        used[to].assign(store.tables[to].rows, 1);
        auto use = auditing::live_use_of(dataset, static_cast<language::LinkIndex>(i), samples);
        if (!use) return tl::unexpected(use.error());
        if (use->orphan_rows != 0) use->orphan_measures = orphan_measures(dataset, model.links[i]);
        made.links.push_back(std::move(*use));
        continue;
      }
      // Nobody knows which rows a broken link would lead to.
      if (!store.links[i].broken.empty()) used[to].assign(store.tables[to].rows, 1);
      LinkUse use = use_of(store.links[i], columns_of(from), samples, used[to]);
      use.many_rows = store.tables[from.table].rows;
      use.one_nulls = rows_without_key(columns_of(model.links[i].to));
      use.many_table = store.tables[from.table].name;
      use.one_table = store.tables[to].name;
      if (use.orphan_rows != 0) use.orphan_measures = orphan_measures(dataset, model.links[i]);
      made.links.push_back(std::move(use));
    }
    for (std::size_t t = 0; t < used.size(); ++t) {
      if (std::find(used[t].begin(), used[t].end(), 0) != used[t].end())
        made.trims.push_back(
            auditing::trim_of(store.tables[t], used[t], auditing::Saving::measured, dataset.options().threads));
    }
    std::stable_sort(made.trims.begin(), made.trims.end(),
                     [](const Trim& a, const Trim& b) { return a.saved_bytes > b.saved_bytes; });
    if (model.calendar) {
      made.calendar = model.column_name(model.calendar->day);
      made.gaps = gaps_of(store.tables[model.calendar->day.table].columns[model.calendar->day.column].data);
    }
    return made;
  });
}

}  // namespace juniper
