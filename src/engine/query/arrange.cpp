#include "engine/query/arrange.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <numeric>

#include "engine/asked/result_shape.h"
#include "engine/scan/scan.h"

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

// The values of some rows of one vector, then of some rows of another. Parts that were evaluated apart may hold exact
// numbers in different ways.
VectorPtr joined(const Vector& first, const std::vector<std::uint32_t>& first_rows, const Vector& second,
                 const std::vector<std::uint32_t>& second_rows) {
  auto out = std::make_shared<Vector>();
  out->reset(first.repr == second.repr ? first.repr : Repr::wide, first_rows.size() + second_rows.size());
  std::size_t at = 0;
  for (const std::uint32_t row : first_rows) out->set(at++, first.value_at(row));
  for (const std::uint32_t row : second_rows) out->set(at++, second.value_at(row));
  return out;
}

// The order of two codes of a column by their values, nulls last.
int compare_codes_of(const store::Column& column, std::uint64_t a, std::uint64_t b) {
  if (column.layout == store::Layout::bits) return compare(column.value_of(a), column.value_of(b));
  return a < b ? -1 : (b < a ? 1 : 0);
}

// For each of the ascending codes, the code of the smallest value of `other` in the rows where `column` has it.
std::vector<std::uint64_t> smallest_beside(const store::Column& column, const store::Column& other,
                                           const std::vector<std::uint64_t>& codes) {
  boost::unordered_flat_map<std::uint64_t, std::size_t> places;
  places.reserve(codes.size());
  for (const std::uint64_t code : codes) places.emplace(code, places.size());
  std::vector<std::uint64_t> smallest(codes.size(), other.null_code);
  std::array<std::uint64_t, store::block_rows> block;
  std::array<std::uint64_t, store::block_rows> beside;
  for (std::size_t b = 0; b < column.codes.blocks(); ++b) {
    column.codes.decode_block(b, block.data());
    other.codes.decode_block(b, beside.data());
    for (std::size_t i = 0; i < column.codes.rows_in_block(b); ++i) {
      const auto at = places.find(block[i]);
      if (at == places.end() || beside[i] == smallest[at->second]) continue;
      if (compare_codes_of(other, beside[i], smallest[at->second]) < 0) smallest[at->second] = beside[i];
    }
  }
  return smallest;
}

}  // namespace

std::uint64_t ArrangedLevel::code(std::size_t combination, std::uint32_t k) const {
  const auto place = std::lower_bound(kept.begin(), kept.end(), k) - kept.begin();
  return layout.code(keys[combination], static_cast<std::size_t>(place));
}

ArrangedLevel ArrangedLevel::part(std::size_t begin, std::size_t end) const {
  return {kept, layout, keys.part(begin, end), {}, {}};
}

void ArrangedLevel::append(const ArrangedLevel& other) {
  PackedKeys both(layout.bits());
  for (const std::uint32_t row : rows) both.push_back(keys[row]);
  for (const std::uint32_t row : other.rows) both.push_back(other.keys[row]);
  if (shown.empty()) {
    for (const VectorPtr& values : other.shown) shown.push_back(joined(*values, {}, *values, other.rows));
  } else {
    for (std::size_t s = 0; s < shown.size(); ++s) shown[s] = joined(*shown[s], rows, *other.shown[s], other.rows);
  }
  keys = std::move(both);
  rows.resize(keys.size());
  std::iota(rows.begin(), rows.end(), 0U);
}

namespace {

// Of each code of a live column, the smallest code that its rows have in another column of their table.
std::vector<std::uint64_t> smallest_beside_live(const Source& source, language::ColumnId id, std::uint32_t beside,
                                                const std::vector<std::uint64_t>& codes) {
  ScanRequest request;
  request.table = id.table;
  request.keys = {ScanKey::of(source, {id.table, {}, id}), ScanKey::of(source, {id.table, {}, {id.table, beside}})};
  request.groupings = {{0, 1}};
  const ScanResult result = scan(source, request, 1);
  const Groups& groups = result.groupings[0];
  std::vector<std::uint64_t> smallest(codes.size(), request.keys[1].last);
  for (std::size_t g = 0; g < groups.keys.size(); ++g) {
    const std::uint64_t code = groups.layout.code(groups.keys[g], 0);
    const auto at = std::lower_bound(codes.begin(), codes.end(), code);
    if (at == codes.end() || *at != code) continue;
    std::uint64_t& least = smallest[static_cast<std::size_t>(at - codes.begin())];
    const std::uint64_t other = groups.layout.code(groups.keys[g], 1);
    const store::Column& column = source.column({id.table, beside});
    if (compare_codes_of(column, other, least) < 0) least = other;
  }
  return smallest;
}

}  // namespace

Arrangement::Arrangement(const Source& source, const Query& query, const QueryKeys& keys, const ArrangedLevel& detail)
    : source_(source), model_(source.model), query_(query), keys_(keys) {
  for (std::uint32_t k = 0; k < query_.by.size(); ++k) places_.push_back(places_of_codes(k, detail));
}

// By the column that a column is sorted by, then by its own values; nulls last.
std::optional<Arrangement::Places> Arrangement::places_of_codes(std::uint32_t k, const ArrangedLevel& detail) const {
  if (!query_.by[k].is_column()) return std::nullopt;
  const language::ColumnId id = query_.by[k].column().column;
  const store::Column& column = source_.column(id);
  const auto& sorted_by = model_.column(id).sorted_by;
  if (!sorted_by && column.layout != store::Layout::bits) return std::nullopt;
  std::vector<std::uint64_t> codes(detail.keys.size());
  for (std::size_t i = 0; i < codes.size(); ++i) codes[i] = detail.code(i, k);
  std::sort(codes.begin(), codes.end());
  codes.erase(std::unique(codes.begin(), codes.end()), codes.end());
  std::vector<std::size_t> order(codes.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  const store::Column* const beside = sorted_by ? &source_.column({id.table, *sorted_by}) : nullptr;
  std::vector<std::uint64_t> first;
  if (beside != nullptr) {
    first = source_.is_live(id.table) ? smallest_beside_live(source_, id, *sorted_by, codes)
                                      : smallest_beside(column, *beside, codes);
  }
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    if (beside != nullptr) {
      if (const int by = compare_codes_of(*beside, first[a], first[b]); by != 0) return by < 0;
    }
    return compare_codes_of(column, codes[a], codes[b]) < 0;
  });
  Places places;
  places.reserve(codes.size());
  for (const std::size_t i : order) places.emplace(codes[i], places.size());
  return places;
}

int Arrangement::compare_codes(std::uint32_t k, std::uint64_t a, std::uint64_t b) const {
  if (a == b) return 0;
  const bool less = places_[k] ? places_[k]->at(a) < places_[k]->at(b) : a < b;
  return less ? -1 : 1;
}

int Arrangement::compare_by(const language::QuerySort& sort, const ArrangedLevel& level, std::uint32_t a,
                            std::uint32_t b) const {
  int order = 0;
  bool null = false;
  if (sort.column < query_.by.size()) {
    const auto k = static_cast<std::uint32_t>(sort.column);
    if (std::find(level.kept.begin(), level.kept.end(), k) == level.kept.end()) return 0;
    const std::uint64_t null_code = keys_.null_code(k);
    const auto [x, y] = std::pair(level.code(a, k), level.code(b, k));
    null = x == null_code || y == null_code;
    order = compare_codes(k, x, y);
  } else {
    const Vector& values = *level.shown[sort.column - query_.by.size()];
    null = values.state[a] != State::value || values.state[b] != State::value;
    order = compare_rows(values, a, b);
  }
  return sort.descending && !null ? -order : order;  // nulls come last either way
}

bool Arrangement::before(const ArrangedLevel& level, std::uint32_t a, std::uint32_t b) const {
  for (const language::QuerySort& sort : query_.sort) {
    const int order = compare_by(sort, level, a, b);
    if (order != 0) return order < 0;
  }
  for (const std::uint32_t k : level.kept) {
    if (const int order = compare_codes(k, level.code(a, k), level.code(b, k)); order != 0) return order < 0;
  }
  return false;  // no two rows of a level are alike
}

template <class Sort>
void Arrangement::sort_by(const Sort& sort, const ArrangedLevel& level) const {
  const auto is_before = [&](std::uint32_t a, std::uint32_t b) { return before(level, a, b); };
  if (query_.sort.empty() || query_.sort[0].column < query_.by.size()) return sort(is_before);
  // Of millions of rows, nearly all are told apart by the first number that they are sorted by.
  const bool descending = query_.sort[0].descending;
  const Vector& values = *level.shown[query_.sort[0].column - query_.by.size()];
  with_type(values.repr, [&](auto zero) {
    const auto* const value = values.of<decltype(zero)>().data();
    const State* const state = values.state.data();
    sort([&](std::uint32_t a, std::uint32_t b) {
      if (state[a] == State::value && state[b] == State::value) {
        if (value[a] < value[b]) return !descending;
        if (value[b] < value[a]) return descending;
      }
      return is_before(a, b);
    });
  });
}

void Arrangement::keep_first(std::size_t count, ArrangedLevel& level) const {
  if (count >= level.rows.size()) return sort(level);
  const auto end = level.rows.begin() + static_cast<std::ptrdiff_t>(count);
  sort_by([&](const auto& before) { std::partial_sort(level.rows.begin(), end, level.rows.end(), before); }, level);
  level.rows.erase(end, level.rows.end());
}

void Arrangement::sort(ArrangedLevel& level) const {
  sort_by([&](const auto& before) { std::sort(level.rows.begin(), level.rows.end(), before); }, level);
}

QueryResult Arrangement::result(std::vector<ArrangedLevel> levels) const {
  std::vector<std::vector<std::uint32_t>> kept;
  for (const ArrangedLevel& level : levels) kept.push_back(level.kept);
  QueryResult result = empty_result(model_, query_, kept);
  for (ArrangedLevel& level : levels) {
    if (&level == &levels[0] && query_.limit) {
      keep_first(*query_.limit, level);
    } else {
      sort(level);
    }
  }
  interleave(levels, result);
  return result;
}

// A level's totals follow their rows where the rows of each stand together, the finer first; otherwise, and for
// totals whose rows were all cut off by a limit, they come behind the rows. The grand total comes last.
void Arrangement::interleave(const std::vector<ArrangedLevel>& levels, QueryResult& result) const {
  struct Placed {
    std::size_t after;  // position in the detail rows
    std::size_t kept;
    std::uint32_t level;
    std::uint32_t row;
  };
  const auto bytes_of = [&](const ArrangedLevel& level, std::uint32_t row, const std::vector<std::uint32_t>& keys) {
    std::string bytes(keys.size() * sizeof(std::uint64_t), '\0');
    for (std::size_t i = 0; i < keys.size(); ++i) {
      const std::uint64_t c = level.code(row, keys[i]);
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

void Arrangement::append(const ArrangedLevel& level, std::uint32_t from, std::uint32_t number,
                         QueryResult& result) const {
  ResultRow row;
  row.level = number;
  row.cells.resize(query_.by.size());
  for (const std::uint32_t k : level.kept) row.cells[k] = keys_.value_of(k, level.code(from, k));
  for (const VectorPtr& shown : level.shown) row.cells.push_back(shown->value_at(from));
  result.rows.push_back(std::move(row));
}

Diagnostics too_wide_error(const Source& source, const Query& query) {
  return {source.model.sources.diagnostic(Severity::error, "JR-703", query.by[0].span,
                                          "these `by` columns have too many values to be grouped by together",
                                          "group by fewer columns, or by coarser ones")};
}

}  // namespace juniper::engine
