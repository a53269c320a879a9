#include "engine/arrange.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cstring>
#include <map>

namespace juniper::engine {

std::string bytes_of(const Combination& codes, const std::vector<std::uint32_t>& keys) {
  std::string bytes(keys.size() * sizeof(std::uint64_t), '\0');
  for (std::size_t i = 0; i < keys.size(); ++i)
    std::memcpy(bytes.data() + i * sizeof(std::uint64_t), &codes[keys[i]], sizeof(std::uint64_t));
  return bytes;
}

namespace {

using language::Query;

class Arrangement {
 public:
  Arrangement(const Source& source, const Query& query) : source_(source), model_(source.model), query_(query) {}

  QueryResult run(std::vector<ArrangedLevel>& levels) const {
    QueryResult result = describe(levels);
    arrange(levels, result);
    return result;
  }

 private:
  Value key_value(std::uint32_t k, std::uint64_t code) const {
    return source_.column(query_.by[k].column.column).value_of(code);
  }

  QueryResult describe(const std::vector<ArrangedLevel>& levels) const {
    QueryResult result;
    result.title = query_.title;
    for (const auto& key : query_.by) {
      const language::Column& column = model_.column(key.column.column);
      result.columns.push_back({key.name, column.type, column.format, true});
    }
    for (const auto& item : query_.show)
      result.columns.push_back({item.name, item.expression->type, item.format, false});
    for (const ArrangedLevel& level : levels) {
      std::vector<bool> kept(query_.by.size(), false);
      std::string names;
      for (const std::uint32_t k : level.kept) {
        kept[k] = true;
        names += (names.empty() ? "" : ", ") + query_.by[k].name;
      }
      if (result.levels.empty()) {
        names = "detail";
      } else if (level.kept.empty()) {
        names = "grand";
      } else if (level.kept.size() > 1) {
        names = "(" + names + ")";
      }
      result.levels.push_back(names);
      result.kept.push_back(std::move(kept));
    }
    return result;
  }

  // What orders the codes of a `by` column: the column that it is sorted by, then its own values; nulls last.
  std::vector<std::uint64_t> order_of_codes(std::uint32_t k, const std::vector<ArrangedLevel>& levels) const {
    const language::ColumnId id = query_.by[k].column.column;
    const store::Column& column = source_.column(id);
    std::vector<std::uint64_t> codes;
    for (const ArrangedLevel& level : levels) {
      for (const ArrangedRow& row : level.rows) codes.push_back(row.codes[k]);
    }
    std::sort(codes.begin(), codes.end());
    codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
    const auto& sorted_by = model_.column(id).sorted_by;
    std::map<std::uint64_t, Value> first;
    if (sorted_by) first = smallest_beside(column, source_.column({id.table, *sorted_by}), codes);
    std::stable_sort(codes.begin(), codes.end(), [&](std::uint64_t a, std::uint64_t b) {
      if (sorted_by) {
        if (const int order = compare(first[a], first[b]); order != 0) return order < 0;
      }
      return compare(column.value_of(a), column.value_of(b)) < 0;
    });
    return codes;
  }

  // For each of the codes, the smallest value of `other` in the rows where `column` has it.
  static std::map<std::uint64_t, Value> smallest_beside(const store::Column& column, const store::Column& other,
                                                        const std::vector<std::uint64_t>& codes) {
    std::map<std::uint64_t, Value> smallest;
    for (const std::uint64_t code : codes) smallest.emplace(code, Value());
    for (std::uint64_t row = 0; row < column.rows; ++row) {
      const auto at = smallest.find(column.codes.at(row));
      if (at == smallest.end()) continue;
      Value value = other.at(row);
      if (at->second.is_null() || compare(value, at->second) < 0) at->second = std::move(value);
    }
    return smallest;
  }

  void arrange(std::vector<ArrangedLevel>& levels, QueryResult& result) const {
    // Ranks instead of codes, so that rows compare by numbers.
    std::vector<boost::unordered_flat_map<std::uint64_t, std::uint64_t>> ranks(query_.by.size());
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
      for (const std::uint64_t code : order_of_codes(k, levels)) ranks[k].emplace(code, ranks[k].size());
    }
    const auto compare_rows = [&](const ArrangedRow& a, const ArrangedRow& b) {
      for (const language::QuerySort& sort : query_.sort) {
        if (const int order = compare_by(sort, a, b, ranks); order != 0) return order < 0;
      }
      for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
        const auto [x, y] = std::pair(ranks[k].at(a.codes[k]), ranks[k].at(b.codes[k]));
        if (x != y) return x < y;
      }
      return false;
    };
    for (ArrangedLevel& level : levels) std::stable_sort(level.rows.begin(), level.rows.end(), compare_rows);
    if (query_.limit && levels[0].rows.size() > *query_.limit) levels[0].rows.resize(*query_.limit);
    interleave(levels, result);
  }

  template <class Ranks>
  int compare_by(const language::QuerySort& sort, const ArrangedRow& a, const ArrangedRow& b,
                 const Ranks& ranks) const {
    int order = 0;
    bool null = false;
    if (sort.column < query_.by.size()) {
      const std::uint64_t null_code = source_.column(query_.by[sort.column].column.column).null_code;
      const auto [x, y] = std::pair(a.codes[sort.column], b.codes[sort.column]);
      null = x == null_code || y == null_code;
      const auto [p, q] = std::pair(ranks[sort.column].at(x), ranks[sort.column].at(y));
      order = p < q ? -1 : (q < p ? 1 : 0);
    } else {
      const Value& x = a.shown[sort.column - query_.by.size()];
      const Value& y = b.shown[sort.column - query_.by.size()];
      null = x.is_null() || y.is_null();
      order = compare(x, y);
    }
    return sort.descending && !null ? -order : order;  // nulls come last either way
  }

  // A level's totals follow their rows where the rows of each stand together, the finer first; otherwise, and for
  // totals whose rows were all cut off by a limit, they come behind the rows. The grand total comes last.
  void interleave(const std::vector<ArrangedLevel>& levels, QueryResult& result) const {
    struct Placed {
      std::size_t after;  // position in the detail rows
      std::size_t kept;
      std::uint32_t level;
      const ArrangedRow* row;
    };
    std::vector<Placed> totals;
    for (std::uint32_t l = 1; l < levels.size(); ++l) {
      boost::unordered_flat_map<std::string, std::size_t> last;
      bool together = !levels[l].kept.empty();
      for (std::size_t i = 0; i < levels[0].rows.size(); ++i) {
        const auto [at, fresh] = last.try_emplace(bytes_of(levels[0].rows[i].codes, levels[l].kept), i);
        together = together && (fresh || at->second + 1 == i);
        at->second = i;
      }
      for (const ArrangedRow& row : levels[l].rows) {
        const auto at = last.find(bytes_of(row.codes, levels[l].kept));
        totals.push_back(
            {at == last.end() || !together ? levels[0].rows.size() : at->second, levels[l].kept.size(), l, &row});
      }
    }
    std::stable_sort(totals.begin(), totals.end(), [](const Placed& a, const Placed& b) {
      return a.after != b.after ? a.after < b.after : a.kept > b.kept;
    });
    std::size_t next = 0;
    for (std::size_t i = 0; i <= levels[0].rows.size(); ++i) {
      if (i < levels[0].rows.size()) append(levels[0], levels[0].rows[i], 0, result);
      for (; next < totals.size() && totals[next].after == i; ++next)
        append(levels[totals[next].level], *totals[next].row, totals[next].level, result);
    }
  }

  void append(const ArrangedLevel& level, const ArrangedRow& detail, std::uint32_t number, QueryResult& result) const {
    ResultRow row;
    row.level = number;
    row.cells.resize(query_.by.size());
    for (const std::uint32_t k : level.kept) row.cells[k] = key_value(k, detail.codes[k]);
    row.cells.insert(row.cells.end(), detail.shown.begin(), detail.shown.end());
    result.rows.push_back(std::move(row));
  }

  const Source& source_;
  const language::CheckedModel& model_;
  const Query& query_;
};

}  // namespace

QueryResult arrange(const Source& source, const Query& query, std::vector<ArrangedLevel> levels) {
  return Arrangement(source, query).run(levels);
}

Diagnostics overflow_error(const Source& source, const Query& query, const language::QueryShow& item,
                           const Combination& codes, const std::vector<std::uint32_t>& kept) {
  std::string group;
  for (const std::uint32_t k : kept) {
    const store::Column& column = source.column(query.by[k].column.column);
    const Value value = column.value_of(codes[k]);
    group += fmt::format("{}{} = {}", group.empty() ? " where " : ", ", query.by[k].name,
                         value.is_null() ? "null" : to_text(value, column.type));
  }
  return {source.model.sources.diagnostic(
      Severity::error, "JR-701", item.span,
      fmt::format("'{}'{} does not fit {}", item.name, group, to_string(item.expression->type)),
      "use fewer digits after the point, or a real")};
}

}  // namespace juniper::engine
