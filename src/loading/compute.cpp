// What is computed once the files are read, each after all that it needs: links, calculated tables and columns, keys.
#include <fmt/format.h>

#include <unordered_map>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/parallel.h"
#include "engine/query/rows.h"
#include "loading/loader.h"
#include "loading/read_table.h"
#include "store/column.h"

namespace juniper::loading {

namespace {

using Clock = std::chrono::steady_clock;

// The first row whose number does not fit 64 bits.
std::optional<std::uint64_t> overflowed_row(const engine::Vector& values) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    const bool wide = values.repr == engine::Repr::wide && values.state[i] == engine::State::value;
    if (values.state[i] == engine::State::overflow || (wide && !base::fits_int64(values.wide[i]))) return i;
  }
  return std::nullopt;
}

// The values of a calculated column, none of which overflowed, on their way into the store.
source::ColumnInput to_input(Type type, const engine::Vector& values) {
  return source::column_of(type, values.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
    for (std::size_t i = begin; i < end; ++i) {
      const bool null = values.state[i] == engine::State::null;
      piece.is_null.push_back(null ? 1 : 0);
      switch (values.repr) {
        case engine::Repr::narrow:
          piece.exact.push_back(values.narrow[i]);
          break;
        case engine::Repr::wide:
          piece.exact.push_back(null ? 0 : static_cast<std::int64_t>(values.wide[i]));
          break;
        case engine::Repr::real:
          piece.real.push_back(null ? 0 : values.real[i]);
          break;
        case engine::Repr::text:
          piece.text.push_back(values.text[i]);
      }
    }
  });
}

}  // namespace

Result<void> Loader::need_link(LinkIndex index) {
  if (link_done_[index] != 0) return {};
  const Link& link = model_.links[index];
  std::vector<const store::Column*> from;
  std::vector<const store::Column*> to;
  std::string broken = link.broken;
  for (const LinkEnd* const end : {&link.from, &link.to}) {
    for (const std::uint32_t c : end->columns) {
      const ColumnId id{end->table, c};
      if (auto done = need_column(id); !done) return done;
      const std::string& reason = store_.tables[id.table].columns[c].broken;
      if (broken.empty() && !reason.empty()) broken = fmt::format("{}: {}", model_.column_name(id), reason);
      (end == &link.from ? from : to).push_back(&store_.tables[id.table].columns[c].data);
    }
  }
  report({"linking " + model_.link_name(link), store_.tables[link.from.table].rows, 0, 0});
  resolve(index, from, to, broken);
  return {};
}

void Loader::resolve(LinkIndex index, std::span<const store::Column* const> from,
                     std::span<const store::Column* const> to, std::string broken) {
  const auto begin = Clock::now();
  const Link& link = model_.links[index];
  if (broken.empty()) {
    if (const auto repeated = repeated_key(to)) broken = why_broken(link, to, *repeated);
  }
  store::StoredLink& stored = store_.links[index];
  if (broken.empty()) stored = resolve_link(from, to);
  stored.name = model_.link_name(link);
  stored.no_row = to[0]->rows;
  stored.table = link.from.table;
  stored.column = link.from.columns[0];
  stored.broken = broken;
  stored.resolve_nanoseconds = nanoseconds_since(begin);
  writer_.write_ahead(stored.rows);
  link_done_[index] = 1;
}

void Loader::resolve_source_links() {
  std::vector<LinkIndex> ready;
  for (LinkIndex i = 0; i < model_.links.size(); ++i) {
    const Link& link = model_.links[i];
    if (link.from.columns.size() == 1 && column_done_[link.from.table][link.from.columns[0]] &&
        column_done_[link.to.table][link.to.columns[0]])
      ready.push_back(i);
  }
  report({"linking", 0, 0, 0});
  // The longest first, so that no thread is left with one at the end: that of the most different keys.
  const auto codes = [&](LinkIndex i) {
    const LinkEnd& from = model_.links[i].from;
    return store_.tables[from.table].columns[from.columns[0]].data.null_code;
  };
  std::stable_sort(ready.begin(), ready.end(), [&](LinkIndex a, LinkIndex b) { return codes(a) > codes(b); });
  base::parallel_for(ready.size(), options_.threads, [&](std::size_t i) {
    const Link& link = model_.links[ready[i]];
    const store::Column* const from = &source_.column({link.from.table, link.from.columns[0]});
    const store::Column* const to = &source_.column({link.to.table, link.to.columns[0]});
    resolve(ready[i], {&from, 1}, {&to, 1}, link.broken);
  });
}

std::string Loader::why_broken(const Link& link, std::span<const store::Column* const> to,
                               const store::RepeatedKey& repeated) const {
  const Table& table = model_.tables[link.to.table];
  std::string keys;
  for (std::size_t c = 0; c < to.size(); ++c) {
    keys += fmt::format("{}{}.{} is {}", keys.empty() ? "" : ", ", table.name, table.columns[link.to.columns[c]].name,
                        to_text(to[c]->at(repeated.row), to[c]->type));
  }
  const std::uint64_t row = file_row(link.to.table, repeated.row);
  const auto places = places_of(link.to.table, {row});
  return fmt::format("{} in row {}{} and in row {} already ({} a key)", keys, row + 1,
                     places.empty() ? "" : fmt::format(" ({}:{})", places[0].file, places[0].line),
                     file_row(link.to.table, repeated.first) + 1,
                     repeated.rows == 1 ? "1 row repeats" : fmt::format("{} rows repeat", repeated.rows));
}

Result<std::string> Loader::need(const Needs& needs, std::optional<TableIndex> own) {
  std::string broken;
  const auto look = [&](const std::string& name, const std::string& reason) {
    if (broken.empty() && !reason.empty()) broken = fmt::format("it needs {}: {}", name, reason);
  };
  for (const LinkIndex link : needs.links) {
    if (auto done = need_link(link); !done) return tl::unexpected(done.error());
    look("the link " + store_.links[link].name, store_.links[link].broken);
  }
  for (const TableIndex t : needs.tables) {
    if (t == own) continue;
    if (auto done = need_table(t); !done) return tl::unexpected(done.error());
    look("the table " + store_.tables[t].name, store_.tables[t].broken);
  }
  for (const ColumnId id : needs.columns) {
    if (auto done = need_column(id); !done) return tl::unexpected(done.error());
    look(model_.column_name(id), store_.tables[id.table].columns[id.column].broken);
  }
  return broken;
}

void Loader::mark_broken(ColumnId id, const std::string& reason) {
  store::StoredColumn& stored = store_.tables[id.table].columns[id.column];
  stored.broken = reason;
  stored.data = store::encode_column(source::column_of(stored.data.type, 0, [](auto, auto, auto&) {}));
  column_done_[id.table][id.column] = true;
}

Result<void> Loader::need_table(TableIndex t) {
  const Table& table = model_.tables[t];
  if (!table.rows || table_done_[t]) return {};
  const auto broken = need(needs_of(model_, table.rows), t);
  if (!broken) return tl::unexpected(broken.error());
  if (!broken->empty()) {
    store_.tables[t].broken = *broken;
    for (std::uint32_t c = 0; c < table.columns.size(); ++c) mark_broken({t, c}, *broken);
    table_done_[t] = true;
    return {};
  }
  const auto begin = Clock::now();
  report({"computing " + table.name, 0, 0, 0});
  const auto made = engine::evaluate_table(source_, t, options_.threads);
  if (!made) return tl::unexpected(made.error());
  store::StoredTable& stored = store_.tables[t];
  stored.rows = made->rows;
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    if (!table.columns[c].from_row) continue;
    if (const auto bad = overflowed_row(*made->columns[c])) return overflow({t, c}, *bad);
    const auto encode_begin = Clock::now();
    stored.columns[c].data = store::encode_column(to_input(table.columns[c].type, *made->columns[c]));
    stored.columns[c].encode_nanoseconds = nanoseconds_since(encode_begin);
    column_done_[t][c] = true;
  }
  stored.read_nanoseconds = nanoseconds_since(begin);
  table_done_[t] = true;
  return {};
}

Result<void> Loader::need_column(ColumnId id) {
  if (column_done_[id.table][id.column]) return {};
  const Column& column = model_.column(id);
  if (model_.tables[id.table].is_live()) return {};  // computed where the rows are
  if (column.from_row) return need_table(id.table);
  if (model_.tables[id.table].rows) {
    if (auto ready = need_table(id.table); !ready || column_done_[id.table][id.column]) return ready;
  }
  const auto broken = need(needs_of(model_, column.expression, id.table), id.table);
  if (!broken) return tl::unexpected(broken.error());
  if (!broken->empty()) {
    mark_broken(id, *broken);
    return {};
  }
  if (const store::StoredColumn* const earlier = carried_columns_.find(id, unchanged_)) {
    store_.tables[id.table].columns[id.column] = *earlier;
    column_done_[id.table][id.column] = true;
    carried_.insert(id);
    return {};
  }
  const auto begin = Clock::now();
  report({"computing " + model_.column_name(id), store_.tables[id.table].rows, 0, 0});
  const auto rows = engine::evaluate_rows(source_, id.table, column.expression, options_.threads);
  if (!rows) return tl::unexpected(rows.error());
  if (const auto bad = overflowed_row(*rows->values)) return overflow(id, *bad);
  store::StoredColumn& stored = store_.tables[id.table].columns[id.column];
  stored.evaluate_nanoseconds = nanoseconds_since(begin);
  const auto encode_begin = Clock::now();
  stored.data = store::encode_column(to_input(column.type, *rows->values));
  stored.encode_nanoseconds = nanoseconds_since(encode_begin);
  column_done_[id.table][id.column] = true;
  return {};
}

Result<void> Loader::overflow(ColumnId id, std::uint64_t stored_row) const {
  const std::uint64_t row = file_row(id.table, stored_row);
  const auto places = places_of(id.table, {row});
  const std::string where = places.empty() ? "" : fmt::format(" ({}:{})", places[0].file, places[0].line);
  return tl::unexpected(Diagnostics{model_.sources.diagnostic(
      Severity::error, "JR-704", model_.column(id).name_span,
      fmt::format("{} does not fit 64 bits in row {}{}", model_.column_name(id), row + 1, where),
      "round it to fewer digits after the point, or compute a real")});
}

Diagnostics Loader::check_keys(TableIndex t) const {
  Diagnostics errors;
  if (model_.tables[t].rows) return errors;  // its key holds each value once, and null may be one
  for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
    const store::Column& column = store_.tables[t].columns[c].data;
    if (!model_.tables[t].columns[c].key || column.distinct == column.rows) continue;
    const auto leads_here = [&](const Link& link) {
      return link.to.table == t && link.to.columns == std::vector<std::uint32_t>{c};
    };
    if (std::any_of(model_.links.begin(), model_.links.end(), leads_here)) continue;
    const auto found = repeated_rows({t, c});
    errors.insert(errors.end(), found.begin(), found.end());
  }
  for (const TableKey& key : model_.tables[t].keys) {
    const auto leads_here = [&](const Link& link) { return link.to.table == t && link.to.columns == key.columns; };
    if (std::any_of(model_.links.begin(), model_.links.end(), leads_here)) continue;
    const auto repeated = repeated_rows(t, key);
    errors.insert(errors.end(), repeated.begin(), repeated.end());
  }
  return errors;
}

Diagnostics Loader::repeated_rows(TableIndex t, const TableKey& key) const {
  std::vector<const store::Column*> columns;
  std::string names;
  for (const std::uint32_t c : key.columns) {
    const store::StoredColumn& stored = store_.tables[t].columns[c];
    if (!stored.broken.empty()) return {};  // told with what breaks it
    columns.push_back(&stored.data);
    names += (names.empty() ? "" : ", ") + stored.name;
  }
  const std::string name = fmt::format("the key {}.({})", model_.tables[t].name, names);
  std::string message;
  std::uint64_t row = 0;
  for (std::size_t i = 0; i < columns.size() && message.empty(); ++i) {
    if (columns[i]->nulls == 0) continue;
    const auto codes = columns[i]->codes.decoded();
    row = static_cast<std::uint64_t>(std::find(codes.begin(), codes.end(), columns[i]->null_code) - codes.begin());
    message = fmt::format("{} has a null in {} here ({} in all)", name, store_.tables[t].columns[key.columns[i]].name,
                          columns[i]->nulls);
  }
  if (message.empty()) {
    const auto repeated = repeated_key(columns);
    if (!repeated) return {};
    std::string values;
    for (const store::Column* const column : columns) {
      values += (values.empty() ? "" : ", ") + to_text(column->value_of(column->codes.at(repeated->row)), column->type);
    }
    row = repeated->row;
    message = fmt::format("{} is ({}) here and in row {} already ({} repeated keys in all)", name, values,
                          file_row(t, repeated->first) + 1, repeated->rows);
  }
  const std::vector<Place> places = places_of(t, {file_row(t, row)});
  return base::error_at("JR-508", places.empty() ? Place{model_.tables[t].source.pattern, 0, 0} : places.front(),
                        message, "a key names one row: mend the data, or take its declaration out");
}

Diagnostics Loader::repeated_rows(ColumnId id) const {
  constexpr std::size_t most = 5;
  const store::Column& column = source_.column(id);
  std::unordered_map<std::uint64_t, std::uint64_t> first;
  std::vector<std::uint64_t> rows;
  std::vector<std::string> messages;
  for (std::uint64_t row = 0; row < column.rows && rows.size() < most; ++row) {
    const std::uint64_t code = column.codes.at(row);
    if (code == column.null_code) {
      messages.push_back(fmt::format("the key {} is null here", model_.column_name(id)));
    } else if (const auto [at, fresh] = first.emplace(code, row); fresh) {
      continue;
    } else {
      messages.push_back(fmt::format("the key {} is {} here and in row {} already", model_.column_name(id),
                                     to_text(column.value_of(code), column.type), file_row(id.table, at->second) + 1));
    }
    rows.push_back(file_row(id.table, row));
  }
  const std::vector<Place> places = places_of(id.table, rows);
  Diagnostics errors;
  const std::uint64_t repeated = column.rows - column.distinct - column.nulls;
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const auto error =
        base::error_at("JR-508", i < places.size() ? places[i] : Place{model_.tables[id.table].source.pattern, 0, 0},
                       fmt::format("{} ({} null and {} repeated keys in all)", messages[i], column.nulls, repeated),
                       "a key names one row: mend the data, or declare the column without `key`");
    errors.insert(errors.end(), error.begin(), error.end());
  }
  return errors;
}

}  // namespace juniper::loading
