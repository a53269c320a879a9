#include "report/figures.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <map>
#include <optional>
#include <set>

#include "base/format.h"
#include "base/shown_text.h"
#include "report/cells.h"

namespace juniper::report_figures {

namespace {

using base::Json;
namespace cell = report_cells;

// Names and values may be of any length; what is drawn has room for so many characters.
constexpr std::size_t most_characters = 80;

Json shown(std::string_view text) {
  return base::shortened(text, most_characters);
}

template <class... Parts>
Json row(Parts&&... parts) {
  Json::Items items;
  (items.push_back(Json(std::forward<Parts>(parts))), ...);
  return items;
}

template <class... Members>
Json object(Members&&... members) {
  Json::Members all;
  (all.emplace_back(members.first, std::move(members.second)), ...);
  return all;
}

template <class Value>
Json or_null(const std::optional<Value>& value) {
  if (!value) return {};
  return *value;
}

template <class Part>
std::pair<const char*, Json> member(const char* name, Part&& part) {
  return {name, Json(std::forward<Part>(part))};
}

struct PartOfStore {
  std::string use;
  std::string table;
  std::string name;
  std::uint64_t bytes = 0;
  bool is_column = false;
};

// What a column is there for, the nearest to what people see first: "asked" by measures, queries, readers or whom the
// text declares; "computes" other columns or tables; "holds" tables and their order together; "nothing".
std::string use_of(const ColumnWeight& column) {
  bool computes = false;
  bool holds = false;
  for (const ColumnUse& use : column.used_by) {
    switch (use.kind) {
      case UserKind::measure:
      case UserKind::query:
      case UserKind::captured_query:
      case UserKind::declared:
      case UserKind::reader:
      case UserKind::disabled:
        return "asked";
      case UserKind::calculated_column:
      case UserKind::calculated_table:
        computes = true;
        break;
      case UserKind::calendar:
      case UserKind::link:
      case UserKind::sort_order:
      case UserKind::row_order:
      case UserKind::table_key:
      case UserKind::trimmed_table:
        holds = true;
        break;
    }
  }
  if (column.logged_queries != 0) return "asked";
  return computes ? "computes" : (holds ? "holds" : "nothing");
}

Json parts(const Weighing& weighing, const std::vector<Distribution>& distributions) {
  std::map<std::pair<std::string, std::string>, std::uint64_t> place_of_values;
  for (std::size_t i = 0; i < distributions.size(); ++i)
    place_of_values[{distributions[i].table, distributions[i].column}] = i;
  std::vector<PartOfStore> all;
  for (const ColumnWeight& c : weighing.columns) {
    all.push_back({use_of(c), c.table, c.column, c.total_bytes(), true});
  }
  for (const LinkWeight& l : weighing.links) all.push_back({"holds", l.table, l.link, l.bytes});
  all.push_back({"file", "", "header, directory, model text", weighing.overhead_bytes});
  std::stable_sort(all.begin(), all.end(),
                   [](const PartOfStore& a, const PartOfStore& b) { return a.bytes > b.bytes; });
  Json::Items items;
  for (const PartOfStore& part : all) {
    std::optional<std::uint64_t> place;
    if (const auto values = place_of_values.find({part.table, part.name});
        part.is_column && values != place_of_values.end())
      place = values->second;
    items.push_back(
        object(member("n", shown(part.name)), member("t", shown(part.table)), member("u", part.use),
               member("c", part.is_column), member("b", part.bytes), member("s", base::format_bytes(part.bytes)),
               member("p", cell::share(part.bytes, weighing.file_bytes).shown), member("v", or_null(place))));
  }
  return items;
}

Json values(const std::vector<Distribution>& distributions) {
  Json::Items items;
  for (const Distribution& d : distributions) {
    const base::ValueFormat format(d.type, d.format);
    Json::Items top;
    for (const ValueCount& v : d.most_frequent)
      top.push_back(row(shown(format.text(v.value)), v.rows, base::grouped(v.rows)));
    Json::Items ranges;
    for (const ValueRange& r : d.ranges)
      ranges.push_back(row(shown(format.text(r.from)), shown(format.text(r.to)), r.rows, base::grouped(r.rows)));
    items.push_back(object(member("rows", d.rows), member("distinct", base::grouped(d.distinct)),
                           member("nulls", d.nulls), member("nulls_text", base::grouped(d.nulls)),
                           member("type", to_string(d.type)), member("counted", d.is_counted),
                           member("top", std::move(top)), member("ranges", std::move(ranges))));
  }
  return items;
}

}  // namespace

Figure treemap(const Weighing& weighing, const std::vector<Distribution>& distributions) {
  return {
      "treemap",
      "Each area is a column, a link, or a smaller part: its size is its bytes in the store. Choose a table to look "
      "into it, or a column to see its values.",
      object(member("parts", parts(weighing, distributions)), member("values", values(distributions))).to_line()};
}

Figure diagram(const LinkReport& report, const std::vector<TableWeight>& weights) {
  Json::Items tables;
  const auto add = [&](const std::string& name, std::uint64_t rows, const std::string& bytes) {
    tables.push_back(row(shown(name), base::grouped(rows) + (rows == 1 ? " row" : " rows"), bytes));
  };
  for (const TableWeight& t : weights) add(t.table, t.rows, base::format_bytes(t.total_bytes()));
  if (weights.empty()) {
    std::map<std::string, std::uint64_t> rows;
    for (const LinkUse& l : report.links) {
      rows[l.many_table] = l.many_rows;
      rows[l.one_table] = l.one_rows + l.one_nulls;
    }
    for (const auto& [name, count] : rows) add(name, count, "");
  }
  Json::Items links;
  for (const LinkUse& l : report.links) {
    const std::size_t role = l.link.find(" as ");
    links.push_back(object(member("from", shown(l.many_table)), member("to", shown(l.one_table)),
                           member("role", shown(role == std::string::npos ? "" : l.link.substr(role + 4))),
                           member("name", shown(l.link)), member("broken", !l.broken.empty()),
                           member("orphans", l.orphan_keys), member("orphan_rows", base::grouped(l.orphan_rows)),
                           member("nulls", l.null_rows), member("null_rows", base::grouped(l.null_rows)),
                           member("unused", l.broken.empty() ? l.unused_rows() : 0),
                           member("unused_rows", l.broken.empty() ? base::grouped(l.unused_rows()) : std::string())));
  }
  return {
      "diagram",
      "An arrow leads from the many side to the one side. Marked are links with keys that have no match, and tables "
      "with rows that no link reaches.",
      object(member("tables", std::move(tables)), member("links", std::move(links))).to_line()};
}

Figure savings(const Audit& audit) {
  std::map<std::string, std::string> titles;
  for (const AuditRule& rule : audit.rules) titles[rule.code] = rule.title;
  Json::Items steps;
  steps.push_back(row("today", audit.file_bytes, base::format_bytes(audit.file_bytes)));
  constexpr std::size_t most = 10;
  std::uint64_t others = 0;
  for (std::size_t i = 0; i < audit.savings.size(); ++i) {
    const RuleSaving& saving = audit.savings[i];
    if (i + 1 >= most && audit.savings.size() > most) {
      others += saving.bytes;
    } else {
      steps.push_back(row(saving.code + ": " + titles[saving.code], saving.bytes, base::format_bytes(saving.bytes)));
    }
  }
  if (others != 0) steps.push_back(row("all other rules", others, base::format_bytes(others)));
  const std::uint64_t left = audit.file_bytes - std::min(audit.saved_bytes, audit.file_bytes);
  steps.push_back(row("left", left, base::format_bytes(left)));
  return {"savings", "What the store takes today, what mending each kind of finding saves, and what would be left.",
          Json(std::move(steps)).to_line()};
}

// A query's own rows: keys of the calendar, or that are moments, go along a line in the order of the rows; names make bars;
// one further key makes a small chart for each of its values.
Json chart(const std::string& day, const QueryResult& result) {
  const std::string calendar = day.substr(0, day.find('.') + 1);
  std::vector<std::size_t> times;
  std::vector<std::size_t> names;
  std::vector<std::size_t> figures;
  for (std::size_t c = 0; c < result.columns.size(); ++c) {
    const ResultColumn& column = result.columns[c];
    const bool is_moment = column.type.kind == TypeKind::date || column.type.kind == TypeKind::datetime;
    if (!column.is_key) {
      if (column.type.is_number()) figures.push_back(c);
    } else if (is_moment || (!calendar.empty() && column.name.starts_with(calendar))) {
      times.push_back(c);
    } else {
      names.push_back(c);
    }
  }
  const std::size_t panels = times.empty() ? 2 : 1;
  if (figures.empty() || times.size() + names.size() == 0 || names.size() > panels) return {};
  std::vector<const ResultRow*> rows;
  std::uint64_t without_time = 0;
  for (const ResultRow& r : result.rows) {
    if (r.level != 0) continue;
    const bool has_time = std::none_of(times.begin(), times.end(), [&](std::size_t c) { return r.cells[c].is_null(); });
    without_time += has_time ? 0 : 1;
    if (has_time) rows.push_back(&r);
  }
  constexpr std::size_t most_rows = 1000;
  if (rows.size() < 2 || rows.size() > most_rows) return {};
  const auto formats = cell::formats_of(result.columns);
  const auto text_of = [&](const ResultRow& r, std::size_t c) {
    return r.cells[c].is_null() ? std::string("(null)") : formats[c].text(r.cells[c]);
  };
  std::set<std::string> panel_texts;
  if (names.size() == panels) {
    for (const ResultRow* r : rows) panel_texts.insert(text_of(*r, names[0]));
  }
  // A chart of one value is none: then the keys together name the values.
  const bool has_panels = names.size() == panels && panel_texts.size() < rows.size();
  Json::Items x;
  Json::Items panel;
  for (const ResultRow* r : rows) {
    std::string along;
    for (std::size_t i = has_panels ? 1 : 0; i < names.size(); ++i)
      along += (along.empty() ? "" : ", ") + text_of(*r, names[i]);
    for (const std::size_t c : times) along += (along.empty() ? "" : " ") + text_of(*r, c);
    x.push_back(shown(along));
    if (has_panels) panel.push_back(shown(text_of(*r, names[0])));
  }
  Json::Items measures;
  for (const std::size_t c : figures) {
    Json::Items texts;
    Json::Items numbers;
    for (const ResultRow* r : rows) {
      texts.push_back(shown(r->cells[c].is_null() ? "" : formats[c].text(r->cells[c])));
      auto number = to_double(r->cells[c], result.columns[c].type);
      if (number && !std::isfinite(*number)) number.reset();
      numbers.push_back(or_null(number));
    }
    measures.push_back(row(shown(result.columns[c].name), std::move(texts), std::move(numbers)));
  }
  return object(member("kind", times.empty() ? "bars" : "line"), member("measures", std::move(measures)),
                member("x", std::move(x)), member("panel", std::move(panel)), member("left_out", without_time));
}

Figure weighings(const Overview& overview) {
  Json::Items weights;
  for (const EarlierWeighing& earlier : overview.earlier) {
    weights.push_back(
        row(shown(earlier.name), earlier.changes.before_bytes, base::format_bytes(earlier.changes.before_bytes)));
  }
  weights.push_back(row("now", overview.weighing.file_bytes, base::format_bytes(overview.weighing.file_bytes)));
  return {"weighings", "Bytes of the store, from the oldest weighing to now.", Json(std::move(weights)).to_line()};
}

Figure revisions(const Overview& overview) {
  Json::Items names_of;
  Json::Items bytes;
  std::set<std::string> names;
  for (const HistoryPoint& point : overview.history) {
    names_of.push_back(shown(point.day + " " + point.revision));
    bytes.emplace_back();
    if (point.bytes) bytes.back() = row(*point.bytes, base::format_bytes(*point.bytes));
    for (const auto& [query, nanoseconds] : point.times) names.insert(query);
  }
  Json::Items times;
  for (const std::string& query : names) {
    Json::Items numbers;
    Json::Items texts;
    for (const HistoryPoint& point : overview.history) {
      const auto time = point.times.find(query);
      std::optional<double> milliseconds;
      if (time != point.times.end()) milliseconds = static_cast<double>(time->second) / 1e6;
      numbers.push_back(or_null(milliseconds));
      texts.push_back(time != point.times.end() ? base::format_nanoseconds(time->second) : "");
    }
    times.push_back(row(shown(query), std::move(numbers), std::move(texts)));
  }
  return {"revisions", "What each revision in git recorded: the bytes of the store, and the time of each query.",
          object(member("revisions", std::move(names_of)), member("bytes", std::move(bytes)),
                 member("times", std::move(times)))
              .to_line()};
}

}  // namespace juniper::report_figures
