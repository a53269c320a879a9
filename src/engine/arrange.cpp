#include "engine/arrange.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cstring>
#include <map>
#include <optional>

namespace juniper::engine {

namespace {

using language::Query;

// The order of two values of a vector, of which nulls are the last.
int compare_rows(const Vector& values, std::uint32_t a, std::uint32_t b) {
  const bool null_a = values.state[a] != State::value;
  const bool null_b = values.state[b] != State::value;
  if (null_a || null_b) return static_cast<int>(null_a) - static_cast<int>(null_b);
  int order = 0;
  with_type(values.repr, [&](auto zero) {
    const auto& of = values.of<decltype(zero)>();
    order = of[a] < of[b] ? -1 : (of[b] < of[a] ? 1 : 0);
  });
  return order;
}

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

  std::uint64_t code(const ArrangedLevel& level, std::uint32_t row, std::size_t k) const {
    return level.codes[row * query_.by.size() + k];
  }

  // The places of a `by` column's codes in their order, where that is not the order of the codes themselves: by the
  // column that it is sorted by, then by its own values; nulls last.
  using Places = boost::unordered_flat_map<std::uint64_t, std::uint64_t>;
  std::optional<Places> places_of_codes(std::uint32_t k, const std::vector<ArrangedLevel>& levels) const {
    const language::ColumnId id = query_.by[k].column.column;
    const store::Column& column = source_.column(id);
    const auto& sorted_by = model_.column(id).sorted_by;
    if (!sorted_by && column.layout != store::Layout::bits) return std::nullopt;
    std::vector<std::uint64_t> codes;
    for (const ArrangedLevel& level : levels) {
      if (std::find(level.kept.begin(), level.kept.end(), k) == level.kept.end()) continue;
      for (const std::uint32_t row : level.rows) codes.push_back(code(level, row, k));
    }
    std::sort(codes.begin(), codes.end());
    codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
    std::map<std::uint64_t, Value> first;
    if (sorted_by) first = smallest_beside(column, source_.column({id.table, *sorted_by}), codes);
    std::stable_sort(codes.begin(), codes.end(), [&](std::uint64_t a, std::uint64_t b) {
      if (sorted_by) {
        if (const int order = compare(first[a], first[b]); order != 0) return order < 0;
      }
      return compare(column.value_of(a), column.value_of(b)) < 0;
    });
    Places places;
    for (const std::uint64_t c : codes) places.emplace(c, places.size());
    return places;
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
    std::vector<std::optional<Places>> places;
    for (std::uint32_t k = 0; k < query_.by.size(); ++k) places.push_back(places_of_codes(k, levels));
    for (ArrangedLevel& level : levels) {
      const auto compare_keys = [&](std::uint32_t a, std::uint32_t b, std::uint32_t k) {
        const auto [x, y] = std::pair(code(level, a, k), code(level, b, k));
        if (x == y) return 0;
        const bool less = places[k] ? places[k]->at(x) < places[k]->at(y) : x < y;
        return less ? -1 : 1;
      };
      const auto before = [&](std::uint32_t a, std::uint32_t b) {
        for (const language::QuerySort& sort : query_.sort) {
          const int order = compare_by(sort, level, a, b, compare_keys);
          if (order != 0) return order < 0;
        }
        for (const std::uint32_t k : level.kept) {
          if (const int order = compare_keys(a, b, k); order != 0) return order < 0;
        }
        return false;
      };
      // No two rows of a level are alike.
      if (&level == &levels[0] && query_.limit && level.rows.size() > *query_.limit) {
        const auto end = level.rows.begin() + static_cast<std::ptrdiff_t>(*query_.limit);
        std::partial_sort(level.rows.begin(), end, level.rows.end(), before);
        level.rows.erase(end, level.rows.end());
      } else {
        std::sort(level.rows.begin(), level.rows.end(), before);
      }
    }
    interleave(levels, result);
  }

  template <class CompareKeys>
  int compare_by(const language::QuerySort& sort, const ArrangedLevel& level, std::uint32_t a, std::uint32_t b,
                 const CompareKeys& compare_keys) const {
    int order = 0;
    bool null = false;
    if (sort.column < query_.by.size()) {
      const auto k = static_cast<std::uint32_t>(sort.column);
      if (std::find(level.kept.begin(), level.kept.end(), k) == level.kept.end()) return 0;
      const std::uint64_t null_code = source_.column(query_.by[k].column.column).null_code;
      null = code(level, a, k) == null_code || code(level, b, k) == null_code;
      order = compare_keys(a, b, k);
    } else {
      const Vector& values = *level.shown[sort.column - query_.by.size()];
      null = values.state[a] != State::value || values.state[b] != State::value;
      order = compare_rows(values, a, b);
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
      std::uint32_t row;
    };
    const auto bytes_of = [&](const ArrangedLevel& level, std::uint32_t row, const std::vector<std::uint32_t>& keys) {
      std::string bytes(keys.size() * sizeof(std::uint64_t), '\0');
      for (std::size_t i = 0; i < keys.size(); ++i) {
        const std::uint64_t c = code(level, row, keys[i]);
        std::memcpy(bytes.data() + i * sizeof(c), &c, sizeof(c));
      }
      return bytes;
    };
    std::vector<Placed> totals;
    for (std::uint32_t l = 1; l < levels.size(); ++l) {
      boost::unordered_flat_map<std::string, std::size_t> last;
      bool together = !levels[l].kept.empty();
      for (std::size_t i = 0; i < levels[0].rows.size(); ++i) {
        const auto [at, fresh] = last.try_emplace(bytes_of(levels[0], levels[0].rows[i], levels[l].kept), i);
        together = together && (fresh || at->second + 1 == i);
        at->second = i;
      }
      for (const std::uint32_t row : levels[l].rows) {
        const auto at = last.find(bytes_of(levels[l], row, levels[l].kept));
        totals.push_back(
            {at == last.end() || !together ? levels[0].rows.size() : at->second, levels[l].kept.size(), l, row});
      }
    }
    std::stable_sort(totals.begin(), totals.end(), [](const Placed& a, const Placed& b) {
      return a.after != b.after ? a.after < b.after : a.kept > b.kept;
    });
    std::size_t next = 0;
    for (std::size_t i = 0; i <= levels[0].rows.size(); ++i) {
      if (i < levels[0].rows.size()) append(levels[0], levels[0].rows[i], 0, result);
      for (; next < totals.size() && totals[next].after == i; ++next)
        append(levels[totals[next].level], totals[next].row, totals[next].level, result);
    }
  }

  void append(const ArrangedLevel& level, std::uint32_t from, std::uint32_t number, QueryResult& result) const {
    ResultRow row;
    row.level = number;
    row.cells.resize(query_.by.size());
    for (const std::uint32_t k : level.kept) row.cells[k] = key_value(k, code(level, from, k));
    for (const VectorPtr& shown : level.shown) row.cells.push_back(shown->value_at(from));
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
                           std::span<const std::uint64_t> codes, const std::vector<std::uint32_t>& kept) {
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
