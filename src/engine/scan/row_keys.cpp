#include "engine/scan/row_keys.h"

#include <algorithm>
#include <limits>

#include "base/parallel.h"
#include "engine/vector/column_values.h"

namespace juniper::engine {

using language::LinkIndex;

RowKeys::RowKeys(const Source& source, const ScanRequest& request) : source_(source), given_(request) {
  std::vector<std::vector<std::uint32_t>> groupings;
  std::vector<ScanKey> keys = request.keys;
  bool any = false;
  for (const std::vector<std::uint32_t>& grouping : request.groupings) {
    std::vector<std::uint32_t>& changed = groupings.emplace_back(grouping);
    groupings_.emplace_back();
    const auto path = best_path(grouping);
    if (!path) continue;
    any = true;
    changed.clear();
    for (const std::uint32_t k : grouping) {
      if (!is_determined(request.keys[k], *path)) changed.push_back(k);
    }
    const std::size_t row = changed.size();
    changed.push_back(static_cast<std::uint32_t>(keys.size()));
    keys.push_back({ScanKey::Kind::row, {}, *path, nullptr, rows_behind(*path)});
    Changed& to = groupings_.back().emplace(Changed{*path, {}});
    std::size_t kept = 0;
    for (const std::uint32_t k : grouping) to.places.push_back(is_determined(request.keys[k], *path) ? row : kept++);
  }
  if (!any) return;
  changed_ = request;
  changed_->keys = std::move(keys);
  changed_->groupings = std::move(groupings);
}

std::uint64_t RowKeys::rows_behind(const Path& path) const {
  return source_.rows(source_.model.links[path.back()].to.table);
}

// A column of the table that leads to the row with its value, or, where no row is without a match, is as good as that.
bool RowKeys::is_foreign_key(const ScanKey& key, LinkIndex link) const {
  const language::Link& l = source_.model.links[link];
  return key.kind == ScanKey::Kind::column && key.column.path.empty() && l.from.columns.size() == 1 &&
         key.column.column == language::ColumnId{l.from.table, l.from.columns[0]};
}

// Where a key alone tells a row behind links: the way there.
std::optional<RowKeys::Path> RowKeys::path_to_row(const ScanKey& key) const {
  if (key.kind != ScanKey::Kind::column) return std::nullopt;
  const Path& path = key.column.path;
  if (!path.empty()) {
    const language::LinkEnd& to = source_.model.links[path.back()].to;
    const bool is_key = to.columns.size() == 1 && key.column.column == language::ColumnId{to.table, to.columns[0]};
    return is_key ? std::optional(path) : std::nullopt;
  }
  for (LinkIndex link = 0; link < source_.model.links.size(); ++link) {
    if (!is_foreign_key(key, link) || !source_.store.links[link].broken.empty()) continue;
    if (source_.link(link).unmatched != 0) continue;
    // Its codes are found by row from numbers alone.
    if (repr_of(source_.column(key.column.column)) == Repr::narrow) return Path{link};
  }
  return std::nullopt;
}

bool RowKeys::is_determined(const ScanKey& key, const Path& path) const {
  if (key.kind != ScanKey::Kind::column) return false;
  if (key.last >= std::numeric_limits<std::uint32_t>::max()) return false;
  const Path& to_key = key.column.path;
  if (to_key.empty()) {
    return path.size() == 1 && is_foreign_key(key, path[0]) && source_.link(path[0]).unmatched == 0 &&
           repr_of(source_.column(key.column.column)) == Repr::narrow;
  }
  return to_key.size() >= path.size() && std::equal(path.begin(), path.end(), to_key.begin());
}

// The way to the row that determines the most keys of a grouping, two at least.
std::optional<RowKeys::Path> RowKeys::best_path(const std::vector<std::uint32_t>& grouping) const {
  std::optional<Path> best;
  std::size_t most = 1;
  for (const std::uint32_t k : grouping) {
    const auto path = path_to_row(given_.keys[k]);
    if (!path || rows_behind(*path) >= std::numeric_limits<std::uint32_t>::max()) continue;
    const auto count =
        static_cast<std::size_t>(std::count_if(grouping.begin(), grouping.end(), [&](std::uint32_t other) {
          return is_determined(given_.keys[other], *path);
        }));
    if (count <= most) continue;
    most = count;
    best = path;
  }
  return best;
}

// The codes of a key that rows behind the path determine, which may be none. Where they are many, those of all rows are
// read, and else one by one.
std::vector<std::uint64_t> RowKeys::codes_of_rows(const ScanKey& key, const Path& path,
                                                  const std::vector<std::uint64_t>& rows) const {
  if (key.column.path.empty()) return own_codes_of_rows(key, path, rows);
  const store::Column& column = source_.column(key.column.column);
  const std::uint64_t none = rows_behind(path);
  const std::span<const LinkIndex> on = std::span(key.column.path).subspan(path.size());
  std::vector<std::uint64_t> codes(rows);
  if (rows.size() >= none / 8) {
    const FarCodes far(source_, codes_along(source_, on, &column));
    const std::vector<std::uint32_t>& all = far.all();
    for (std::uint64_t& code : codes) code = all[code];
    return codes;
  }
  const std::vector<CodesOnTheWay> steps = codes_along(source_, on, nullptr);
  for (std::uint64_t& code : codes) {
    bool leads = code != none;
    for (const CodesOnTheWay& step : steps) {
      if (!leads) break;
      code = step.codes->at(code);
      leads = code != step.none;
    }
    code = leads ? column.codes.at(code) : column.null_code;
  }
  return codes;
}

// Those of a foreign key, which has the value of the row's own key.
std::vector<std::uint64_t> RowKeys::own_codes_of_rows(const ScanKey& key, const Path& path,
                                                      const std::vector<std::uint64_t>& rows) const {
  const store::Column& column = source_.column(key.column.column);
  const language::LinkEnd& to = source_.model.links[path[0]].to;
  const store::Column& far = source_.column({to.table, to.columns[0]});
  std::vector<std::uint64_t> codes(rows.size(), column.null_code);
  Vector values;
  values.reset(repr_of(far), rows.size());
  const bool many = rows.size() >= far.rows / 8;
  const std::vector<std::uint64_t> all = many ? far.codes.decoded() : std::vector<std::uint64_t>();
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const bool leads = rows[i] != far.rows;
    put_value(far, !leads ? far.null_code : (many ? all[rows[i]] : far.codes.at(rows[i])), values, i);
  }
  find_codes(column, values, codes);
  return codes;
}

std::vector<language::TableIndex> RowKeys::tables() const {
  std::vector<language::TableIndex> tables;
  for (const auto& grouping : groupings_) {
    if (!grouping) continue;
    const language::TableIndex table = source_.model.links[grouping->path.back()].to.table;
    if (std::find(tables.begin(), tables.end(), table) == tables.end()) tables.push_back(table);
  }
  return tables;
}

void RowKeys::restore(ScanResult& result, unsigned threads) const {
  if (!changed_) return;
  for (std::size_t g = 0; g < groupings_.size(); ++g) {
    if (!groupings_[g]) continue;
    const auto& [path, places] = *groupings_[g];
    Groups& groups = result.groupings[g];
    std::vector<ScanKey> keys;
    for (const std::uint32_t k : given_.groupings[g]) keys.push_back(given_.keys[k]);
    const std::size_t row_place = changed_->groupings[g].size() - 1;
    std::vector<std::uint64_t> rows(groups.keys.size());
    groups.keys.visit([&](const auto& packed) {
      for (std::size_t i = 0; i < rows.size(); ++i) rows[i] = groups.layout.code(packed[i], row_place);
    });
    std::vector<std::vector<std::uint64_t>> codes(keys.size());
    base::parallel_for(keys.size(), threads, [&](std::size_t k) {
      if (places[k] == row_place) codes[k] = codes_of_rows(keys[k], path, rows);
    });
    const KeyLayout layout = layout_of(keys);
    groups.keys = groups.keys.changed(layout.bits(), threads, [&](std::size_t i, PackedKey key) {
      PackedKey restored = 0;
      for (std::size_t k = 0; k < keys.size(); ++k)
        restored = layout.with(restored, k, codes[k].empty() ? groups.layout.code(key, places[k]) : codes[k][i]);
      return restored;
    });
    groups.layout = layout;
  }
}

}  // namespace juniper::engine
